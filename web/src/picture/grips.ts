import type { Grip, NumberValue } from '../api/client';
import type { Desk } from '../state/desk.svelte';
import { found } from '../state/scene_items';

type Held = Grip & { from: number[] };

/** A picture's place in a grip's own px. */
export function own(grip: Grip, at: { x: number; y: number }): [number, number] {
  const [ax, ay, bx, by] = grip.axes;
  const [dx, dy] = [at.x - grip.centre[0], at.y - grip.centre[1]];
  const det = ax * by - bx * ay;
  if (Math.abs(det) < 1e-9) return [0, 0];
  return [(dx * by - dy * bx) / det, (dy * ax - dx * ay) / det];
}

const round = (value: number, to = 1): number => Number((Math.round(value / to) * to).toFixed(4));

/** What the fields of a grip become when it is drawn to a place; see `Grip` in the engine. */
export function gripped(
  grip: Grip,
  at: { x: number; y: number },
  held: Grip,
  desk: Desk,
  path: string,
): [string, number][] {
  const [x, y] = own(grip, at);
  const [wx, wy] = grip.way ?? [1, 0];
  const { factor = 1, offset = 0 } = grip;
  switch (grip.kind) {
    case 'move': {
      const [x0, y0] = own(grip, { x: grip.at[0], y: grip.at[1] });
      const from = (held as Held).from ?? grip.fields.map((field) => valueAt(desk, `${path}/${field}`));
      return [
        [grip.fields[0]!, round(from[0]! + x - x0)],
        [grip.fields[1]!, round(from[1]! + y - y0)],
      ];
    }
    case 'length':
      return [[grip.fields[0]!, Math.max(0, round(offset + factor * (x * wx + y * wy)))]];
    case 'turn': {
      const angle = (Math.atan2(y, x) * 180) / Math.PI + offset;
      const found: [string, number][] = [[grip.fields[0]!, round((angle + 360) % 360)]];
      if (grip.fields[1]) found.push([grip.fields[1], round(Math.hypot(x, y) * factor)]);
      return found;
    }
    case 'spread': {
      const off = Math.abs(Math.atan2(y * wx - x * wy, x * wx + y * wy));
      return [[grip.fields[0]!, Math.min(360, round((off * 360) / Math.PI))]];
    }
  }
}

function valueAt(desk: Desk, path: string): number {
  const value = found(desk.shot, path);
  return typeof value === 'number'
    ? value
    : desk.valueNow(path, { ...(value as NumberValue), flutter: null });
}

/** A grip at the start of a drag: the values of its fields then. */
gripped.start = (grip: Grip, desk: Desk, path: string): Grip =>
  ({ ...grip, from: grip.fields.map((field) => valueAt(desk, `${path}/${field}`)) }) as Held;
