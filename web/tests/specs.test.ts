import { beforeAll, describe, expect, it, vi } from 'vitest';
import description from '../../docs/openapi.json';
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

  it('refuses a number that there is not', () => {
    expect(specs.of('Gravity', 'strength').unit).toBe('m/s²');
    expect(() => specs.of('Gravity', 'nothing')).toThrow('Gravity.nothing');
  });
});
