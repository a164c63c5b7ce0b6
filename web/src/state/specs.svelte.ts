import { get, type Presets } from '../api/client';

/** What the schema says of a number: its unit, range, clock, and which drivers it offers. */
export interface Spec {
  unit: string;
  low: number;
  high: number;
  clock: 'shot' | 'birth' | 'age' | 'none';
  step: number;
  spread: boolean;
  life: boolean;
  help: string;
  initial: number;
}

interface Property {
  isbjorn?: Omit<Spec, 'initial'>;
  default?: { value: number } | number;
  description?: string;
}

class Specs {
  ready = $state(false);
  presets = $state<Presets>({ curves: [], ramps: [] });
  rates = $state<string[]>([]);
  private defs: Record<string, { properties: Record<string, Property> }> = {};

  async load(): Promise<void> {
    if (this.ready) return;
    const [schema, presets, rates] = await Promise.all([
      get<{ $defs: Specs['defs']; properties: Record<string, Property> }>('/api/schema'),
      get<Presets>('/api/presets'),
      get<string[]>('/api/rates'),
    ]);
    this.defs = { ...schema.$defs, Shot: { properties: schema.properties } };
    this.presets = presets;
    this.rates = rates;
    this.ready = true;
  }

  of(model: string, field: string): Spec {
    const property = this.defs[model]?.properties[field];
    if (!property?.isbjorn) throw new Error(`no number ${model}.${field} in the schema`);
    const initial = typeof property.default === 'object' ? property.default.value : (property.default ?? 0);
    return { ...property.isbjorn, initial };
  }
}

export const specs = new Specs();
