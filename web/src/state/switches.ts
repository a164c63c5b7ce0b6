import type { Change, NumberValue, Shot } from '../api/client';
import type { Desk } from './desk.svelte';

export type Driver = NumberValue['off'][number];

/** Switch one kind of driver of every number of the shot off or on; its settings stay in the document. */
export function switchAll(desk: Desk, kind: Driver, on: boolean): void {
  const changes: Change[] = [];
  const walk = (at: unknown, path: string): void => {
    if (typeof at !== 'object' || at === null) return;
    if ('over_life_to' in at && 'spread_shape' in at) {
      const number = at as NumberValue;
      const there = {
        spread: number.spread > 0,
        'over life': number.over_life !== null,
        keys: number.keys.length > 0,
        flutter: number.flutter !== null,
        source: number.source !== null,
        all: false,
      }[kind];
      const dark = number.off.includes(kind);
      if (on ? dark : there && !dark)
        changes.push({
          op: 'replace',
          path: `${path}/off`,
          value: on ? number.off.filter((one) => one !== kind) : [...number.off, kind],
        });
      return;
    }
    for (const [name, value] of Object.entries(at)) walk(value, `${path}/${name}`);
  };
  walk(desk.shot, '');
  if (changes.length) desk.change(changes.slice(0, 500), `All ${kind}: ${on ? 'on' : 'off'}`);
}

/** Whether any driver of a kind is switched off. */
export function isOff(shot: Shot | null, kind: Driver): boolean {
  const anyOff = (at: unknown): boolean => {
    if (typeof at !== 'object' || at === null) return false;
    if ('off' in at && Array.isArray(at.off)) return at.off.includes(kind);
    return Object.values(at).some(anyOff);
  };
  return JSON.stringify(shot).includes(`"${kind}"`) && anyOff(shot);
}
