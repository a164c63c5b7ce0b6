import type { NumberValue, Shot } from '../api/client';
import { specs } from '../state/specs.svelte';
import { lists } from '../state/scene_items';

export interface DrivenLine {
  path: string;
  name: string;
  what: string;
}

/** The numbers, and the bursts, that a sound or a control leads. */
export function drivenLines(shot: Shot, id: string): DrivenLine[] {
  const found: DrivenLine[] = [];
  const walk = (value: unknown, path: string, owner: string): void => {
    if (typeof value !== 'object' || value === null) return;
    const number = value as Partial<NumberValue>;
    if ('over_life_to' in value) {
      if (number.source && (number.source.sound === id || number.source.thing === `${id}.value`))
        found.push({
          path,
          name: `${owner}: ${specs.labelAt(shot, path).toLowerCase()}`,
          what: number.source.sound
            ? number.source.hears.what
            : number.source.combine === 'add'
              ? 'added'
              : 'multiplied',
        });
      return;
    }
    if ('times' in value && 'sound' in value) {
      const burst = value as Shot['emitters'][number]['bursts'][number];
      if (burst.sound === id) found.push({ path, name: `${owner}: burst`, what: burst.on });
      return;
    }
    for (const [key, one] of Object.entries(value)) walk(one, `${path}/${key}`, owner);
  };
  for (const list of lists) shot[list].forEach((thing, i) => walk(thing, `/${list}/${i}`, thing.name));
  walk(shot.camera, '/camera', 'Camera');
  return found;
}
