import type { Shot, Tracked } from '../api/client';

/** The words in which the desk is spoken of. */
export type View = 'plate' | 'particles' | 'alpha' | 'layers' | 'under';
export type ThingKind =
  'emitter' | 'force' | 'zone' | 'marker' | 'light' | 'matte' | 'group' | 'sound' | 'control' | 'take';
export type List = `${ThingKind}s`;
/** The lists of things that have a place, and all lists. */
export const placedLists = ['emitters', 'forces', 'zones', 'markers', 'lights', 'mattes'] as const;
export const lists: List[] = [...placedLists, 'groups', 'sounds', 'controls', 'takes'];
export type Selection = { kind: 'shot' | 'plate' } | { kind: ThingKind; id: string };
/** A version that is held against the shot: wiped over it, or beside it. */
export interface Comparison {
  id: number;
  name: string;
  how: 'wipe' | 'side';
}
/** How sure a tracked place is, frame by frame. */
export interface Followed {
  thing: string;
  sure: Tracked['confidence'];
  lost: number | null;
}
export type Box = [number, number, number, number];
export interface Orbit {
  side: number;
  above: number;
  far: number;
}

/** Things with a place to choose from, but for one of them. */
export function placedChoices(shot: Shot, without = ''): { value: string; label: string }[] {
  return placedLists
    .flatMap((list) => shot[list].map((thing) => ({ value: thing.id, label: thing.name })))
    .filter((one) => one.value !== without);
}

/** The things of some lists of a shot to choose from. */
export function choicesOf(shot: Shot, from: string[], without = ''): { value: string; label: string }[] {
  return lists
    .filter((list) => from.includes(list))
    .flatMap((list) => shot[list].map((thing) => ({ value: thing.id, label: thing.name })))
    .filter((one) => one.value !== without);
}

/** The value at a JSON pointer of a plain object. */
export function found(target: unknown, path: string): unknown {
  let at = target;
  for (const part of path.split('/').slice(1)) at = (at as Record<string, unknown> | undefined)?.[part];
  return at;
}
