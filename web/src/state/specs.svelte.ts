import { get, type DrivenBy, type Presets } from '../api/client';

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
  sources: DrivenBy['measure'][];
  initial: number;
}

interface Property {
  isbjorn?: Omit<Spec, 'initial'>;
  default?: { value: number } | number | string | boolean | null;
  description?: string;
  type?: string;
  enum?: string[];
  const?: string;
  pattern?: string;
}

/** A field of a model as a form shows it. */
export interface Field {
  name: string;
  kind: 'number' | 'choice' | 'switch' | 'plain' | 'colour' | 'text';
  choices: string[];
  help: string;
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

  /** The fields of a model in their order, as far as a form can show them. */
  fields(model: string): Field[] {
    const found: Field[] = [];
    for (const [name, p] of Object.entries(this.defs[model]?.properties ?? {})) {
      const kind = p.isbjorn
        ? 'number'
        : p.enum
          ? 'choice'
          : p.type === 'boolean'
            ? 'switch'
            : p.type === 'integer' || p.type === 'number'
              ? 'plain'
              : p.type === 'string' && p.const === undefined
                ? p.pattern
                  ? 'colour'
                  : 'text'
                : null;
      if (kind) found.push({ name, kind, choices: p.enum ?? [], help: p.description ?? '' });
    }
    return found;
  }

  of(model: string, field: string): Spec {
    const property = this.defs[model]?.properties[field];
    if (!property?.isbjorn) throw new Error(`no number ${model}.${field} in the schema`);
    const given = property.default;
    const initial = typeof given === 'object' && given ? given.value : Number(given ?? 0);
    return { ...property.isbjorn, initial };
  }
}

export const specs = new Specs();
