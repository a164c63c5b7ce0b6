import { beforeAll, describe, expect, it, vi } from 'vitest';
import description from '../../docs/openapi.json';
import birth from '../src/desk/Birth.svelte?raw';
import end from '../src/desk/End.svelte?raw';
import emitterFields from '../src/properties/EmitterFields.svelte?raw';
import controls from '../src/special_controls.ts?raw';
import { specs } from '../src/state/specs.svelte';

/** The schema of a shot, as the studio's description has it. */
const { schemas } = description.components;
const schema = { $defs: schemas, properties: schemas.Shot.properties };

beforeAll(async () => {
  vi.stubGlobal('fetch', async (request: Request) => {
    const body = request.url.endsWith('/api/schema') ? schema : [];
    return new Response(JSON.stringify(body), { headers: { 'content-type': 'application/json' } });
  });
  await specs.load();
});

describe('the page as the schema says', () => {
  it('lists kinds with their titles, icons and groups, in the order of the registry', () => {
    expect(specs.forces[0]).toMatchObject({
      kind: 'gravity',
      model: 'Gravity',
      title: 'Gravity',
      menu: 'Forces',
    });
    expect(specs.forces.every((one) => one.icon.startsWith('M'))).toBe(true);
    expect(specs.shapes.map((one) => one.kind)).toContain('sphere');
    expect(specs.bodies.find((one) => one.kind === 'words')?.title).toBe('Text');
    expect(specs.steps.map((one) => one.title)).toContain('Grade and curve');
  });

  it('shows a field only while it means anything', () => {
    expect(specs.applies('Surface', 'restitution', { outcome: 'bounce' })).toBe(true);
    expect(specs.applies('Surface', 'restitution', { outcome: 'stick' })).toBe(false);
    expect(specs.applies('Matte', 'width', { kind: 'shape', form: 'path' })).toBe(false);
    expect(specs.applies('Gravity', 'strength', {})).toBe(true);
  });

  it('labels the field at a pointer, through lists, parts and kinds', () => {
    const shot = { emitters: [{ shape: { kind: 'box' } }], forces: [{ kind: 'wind' }], camera: {} };
    expect(specs.labelAt(shot, '/emitters/0/across')).toBe('Position X');
    expect(specs.labelAt(shot, '/emitters/0/shape/deep')).toBe('Depth extent');
    expect(specs.labelAt(shot, '/forces/0/grip')).toBe('Response');
    expect(specs.labelAt(shot, '/camera/across')).toBe('Position X');
    expect(specs.labelAt(shot, '/rate')).toBe('Frame rate');
  });

  it('gives each field its control, its part or its panel', () => {
    const field = (model: string, name: string) => specs.fields(model).find((f) => f.name === name);
    expect(field('PictureBody', 'media')).toMatchObject({ kind: 'special', shownAs: 'picture' });
    expect(field('Surface', 'model')).toMatchObject({ kind: 'part', shownAs: 'Solid' });
    expect(field('Solid', 'digest')).toBeUndefined();
    expect(field('Gravity', 'kind')).toBeUndefined();
    expect(field('Matte', 'kind')?.kind).toBe('choice');
    expect(field('Emitter', 'mass')?.panel).toBe('motion');
    expect(field('Emitter', 'end_s')).toMatchObject({ shownAs: 'moment', optional: true });
    expect(field('Emitter', 'stays')?.choices.map((one) => one.label)).toEqual([
      'World space',
      'Local space',
    ]);
  });

  it('has every control and every panel that the schema names', () => {
    const named = (key: string): string[] =>
      Object.values(schemas as unknown as Record<string, { properties?: Record<string, object> }>)
        .flatMap((model) => Object.values(model.properties ?? {}))
        .map((property) => (property as Record<string, string>)[key] ?? '')
        .filter((name) => name && name !== 'part');
    expect(named('shown_as').length).toBeGreaterThan(10);
    for (const name of named('shown_as')) expect(controls).toMatch(new RegExp(`^ +'?${name}'?: \\w+,$`, 'm'));
    expect(named('panel').length).toBeGreaterThan(20);
    for (const name of named('panel'))
      expect(emitterFields + birth + end).toMatch(new RegExp(`panel(="| === ')${name}["']`));
  });

  it('refuses a number that there is not', () => {
    expect(specs.of('Gravity', 'strength').unit).toBe('m/s²');
    expect(() => specs.of('Gravity', 'nothing')).toThrow('Gravity.nothing');
  });
});
