import type { Emitter } from '../api/client';
import type { Desk } from '../state/desk.svelte';

/** Let an emitter, at a JSON pointer, lie behind a matte or not. */
export function hide(desk: Desk, emitter: Emitter, path: string, matte: string, on: boolean): void {
  const others = emitter.hidden_by.filter((id) => id !== matte);
  desk.set(`${path}/hidden_by`, on ? [...others, matte] : others, 'Hidden by');
}

/** The fields of everything with a place, which stand together. */
export const place = ['across', 'up', 'depth', 'turn', 'scale'];
/** Fields with a control of their own. */
export const tied = ['id', 'name', 'on', 'kind', 'zone', 'frame', 'carry_place', 'carry_turn', 'carry_size'];
