import { api, got, type DrivenBy, type NumberValue, type Presets } from '../api/client';
import { sentence } from '../ui/words';

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
  title?: string;
  isbjorn?: Omit<Spec, 'initial'>;
  default?: { value: number } | number | string | boolean | null;
  description?: string;
  type?: string;
  enum?: string[];
  const?: string;
  pattern?: string;
  /** The field means something only while others have these values. */
  shown_if?: Record<string, unknown[]>;
  /** The control that edits it, where its type does not say it; empty: none. */
  shown_as?: string;
  /** Labels of choices whose names do not say enough. */
  labels?: Record<string, string>;
  /** Of an emitter: the panel that shows it. */
  panel?: string;
  /** The field names a thing of the cast: the lists that are searched, and the text for an empty reference. */
  refers?: { to: string[]; none: string };
  $ref?: string;
  allOf?: Property[];
  anyOf?: Property[];
  oneOf?: Property[];
  items?: Property;
  discriminator?: { mapping: Record<string, string> };
}

interface Model {
  title?: string;
  isbjorn?: Omit<KindOf, 'kind' | 'model'>;
  properties: Record<string, Property>;
}

/** A field of a model as a form shows it. */
export interface Field {
  name: string;
  label: string;
  kind:
    'number' | 'choice' | 'switch' | 'plain' | 'colour' | 'text' | 'thing' | 'things' | 'part' | 'special';
  /** Of a special field: its control; of a part: its model. */
  shownAs: string;
  /** The panel that shows it; empty: none shows it by itself. */
  panel: string;
  refers?: Property['refers'];
  /** It may be empty. */
  optional: boolean;
  choices: { value: string; label: string }[];
  help: string;
}

/** A kind of force, shape, body or step, from the registry of the engine. */
export interface KindOf {
  kind: string;
  model: string;
  title: string;
  icon: string;
  about: string;
  menu: string;
  /** Of a force: it acts from a place. */
  located: boolean;
  /** Whether the coordinates of its place and turn matter. */
  framed: boolean;
  /** Of a shape: it has an extent. */
  sized: boolean;
  /** Of a shape: it consists of letters. */
  lettered: boolean;
  /** Of a body: the field with the file without which it shows nothing of its own. */
  needs: string;
  /** What may set its numbers from the shot. */
  tool: string;
}

const bare = (ref: string): string => ref.slice(ref.lastIndexOf('/') + 1);

class Specs {
  ready = $state(false);
  presets = $state<Presets>({ curves: [], ramps: [] });
  rates = $state<string[]>([]);
  private defs: Record<string, Model> = {};

  async load(): Promise<void> {
    if (this.ready) return;
    const [schema, presets, rates] = await Promise.all([
      got(api.GET('/api/schema')) as unknown as Promise<{
        $defs: Record<string, Model>;
        properties: Record<string, Property>;
      }>,
      got(api.GET('/api/presets')),
      got(api.GET('/api/rates')),
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
      // Its kind is chosen where a part is, not among its fields.
      if ((name === 'kind' && this.defs[model]?.isbjorn) || p.shown_as === '') continue;
      const kind = p.shown_as
        ? p.shown_as === 'part'
          ? 'part'
          : 'special'
        : p.isbjorn
          ? 'number'
          : p.refers
            ? p.type === 'array'
              ? 'things'
              : 'thing'
            : p.enum
              ? 'choice'
              : p.type === 'boolean'
                ? 'switch'
                : p.type === 'integer' || p.type === 'number'
                  ? 'plain'
                  : p.type === 'string' && p.const === undefined
                    ? p.pattern?.startsWith('^#')
                      ? 'colour'
                      : 'text'
                    : null;
      if (kind)
        found.push({
          name,
          label: p.title ?? name,
          kind,
          shownAs: kind === 'part' ? bare(p.$ref ?? '') : (p.shown_as ?? ''),
          panel: p.panel ?? '',
          optional: p.anyOf?.some((one) => one.type === 'null') ?? false,
          choices: (p.enum ?? []).map((value) => ({ value, label: p.labels?.[value] ?? sentence(value) })),
          refers: p.refers,
          help: p.description ?? '',
        });
    }
    return found;
  }

  /** Whether a field means anything with the other values of its part. */
  applies(model: string, field: string, values: Record<string, unknown>): boolean {
    const when = this.defs[model]?.properties[field]?.shown_if ?? {};
    return Object.entries(when).every(([other, allowed]) => allowed.includes(values[other]));
  }

  /** The label of a field. */
  label(model: string, field: string): string {
    return this.defs[model]?.properties[field]?.title ?? field;
  }

  /** The kinds of a union of the document, in the order of the registry. */
  private union(property: Property | undefined): KindOf[] {
    const mapping = Object.entries(property?.discriminator?.mapping ?? {});
    // Only the list of models keeps its order.
    const order = (property?.oneOf ?? []).map((one) => bare(one.$ref ?? ''));
    mapping.sort(([, a], [, b]) => order.indexOf(bare(a)) - order.indexOf(bare(b)));
    return mapping.map(([kind, ref]) => {
      const model = bare(ref);
      const meta = this.defs[model]?.isbjorn;
      return {
        kind,
        model,
        title: meta?.title ?? kind,
        icon: meta?.icon ?? '',
        about: meta?.about ?? '',
        menu: meta?.menu ?? '',
        located: meta?.located ?? true,
        framed: meta?.framed ?? true,
        sized: meta?.sized ?? true,
        lettered: meta?.lettered ?? false,
        needs: meta?.needs ?? '',
        tool: meta?.tool ?? '',
      };
    });
  }

  get forces(): KindOf[] {
    return this.union(this.defs.Shot?.properties.forces?.items);
  }

  get steps(): KindOf[] {
    return this.union(this.defs.Shot?.properties.finish?.items);
  }

  get deformers(): KindOf[] {
    return this.union(this.defs.Emitter?.properties.deformers?.items);
  }

  get shapes(): KindOf[] {
    return this.union(this.defs.Emitter?.properties.shape);
  }

  get bodies(): KindOf[] {
    return this.union(this.defs.Emitter?.properties.body);
  }

  /** The label of the field at a JSON pointer of a shot. */
  labelAt(shot: unknown, pointer: string): string {
    let property: Property | undefined = { $ref: 'Shot' };
    let at = shot as Record<string, unknown> | undefined;
    for (const part of pointer.split('/').slice(1)) {
      property = Array.isArray(at) ? property?.items : this.modelOf(property, at)?.properties[part];
      at = at?.[part] as Record<string, unknown> | undefined;
    }
    return property?.title ?? pointer.slice(pointer.lastIndexOf('/') + 1);
  }

  private modelOf(property: Property | undefined, value: unknown): Model | undefined {
    if (!property) return undefined;
    const ref =
      property.$ref ??
      property.allOf?.[0]?.$ref ??
      property.discriminator?.mapping[String((value as { kind?: string } | undefined)?.kind)];
    if (ref) return this.defs[bare(ref)];
    return property.anyOf?.map((one) => this.modelOf(one, value)).find(Boolean);
  }

  /** Whether a field has its default value. */
  isInitial(model: string, field: string, value: unknown): boolean {
    const given = this.defs[model]?.properties[field]?.default ?? null;
    if (typeof given !== 'object' || given === null) return (value ?? null) === given;
    const number = value as Partial<NumberValue>;
    const driven =
      number.spread || number.keys?.length || number.flutter || number.source || number.over_life;
    return number.value === given.value && !driven;
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
