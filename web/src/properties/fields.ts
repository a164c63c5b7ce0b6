import type { Emitter } from '../api/client';
import type { Desk } from '../state/desk.svelte';

/** Put an emitter, at a JSON pointer, behind a matte or in front of it. */
export function hide(desk: Desk, emitter: Emitter, path: string, matte: string, on: boolean): void {
  const others = emitter.hidden_by.filter((id) => id !== matte);
  desk.set(`${path}/hidden_by`, on ? [...others, matte] : others, 'Hidden by');
}

/** The fields of everything with a place, shown together. */
export const place = ['across', 'up', 'depth', 'turn', 'scale'];
/** Fields with a control of their own. */
export const tied = ['id', 'name', 'on', 'kind', 'zone', 'frame', 'carry_place', 'carry_turn', 'carry_size'];
