import type { Key } from '../api/client';

const inOrder = (keys: Key[]): Key[] => keys.sort((a, b) => a.at_s - b.at_s);

/** The stored moment: a ten-thousandth of a second is finer than any frame. */
export function moment(at_s: number): number {
  return Number(at_s.toFixed(4));
}

/** Keys with one at a moment; one that is nearer than `near` seconds takes the value. */
export function withKey(keys: readonly Key[], at_s: number, value: number, near: number): Key[] {
  const here = keys.findIndex((key) => Math.abs(key.at_s - at_s) < near);
  if (here >= 0) return keys.map((key, i) => (i === here ? { ...key, value } : { ...key }));
  return inOrder([
    ...keys.map((key) => ({ ...key })),
    { at_s: moment(at_s), value, joint: 'smooth', ease: null },
  ]);
}

/** Keys moved together by seconds and by value; the order may change. */
export function shifted(keys: readonly Key[], chosen: ReadonlySet<number>, by_s: number, by: number): Key[] {
  return inOrder(
    keys.map((key, i) =>
      chosen.has(i) ? { ...key, at_s: moment(key.at_s + by_s), value: key.value + by } : { ...key },
    ),
  );
}

/** The chosen keys' times stretched about the first of them, by a factor. */
export function stretched(keys: readonly Key[], chosen: ReadonlySet<number>, factor: number): Key[] {
  const from = keys.find((_, i) => chosen.has(i))?.at_s ?? 0;
  return inOrder(
    keys.map((key, i) =>
      chosen.has(i) ? { ...key, at_s: moment(from + (key.at_s - from) * factor) } : { ...key },
    ),
  );
}

/** Copied keys put among others, the first of them at a moment. */
export function pasted(keys: readonly Key[], copied: readonly Key[], at_s: number, near: number): Key[] {
  const first = copied[0]?.at_s ?? 0;
  const put = copied.map((key) => ({ ...key, at_s: moment(key.at_s - first + at_s) }));
  const kept = keys.filter((key) => put.every((p) => Math.abs(p.at_s - key.at_s) >= near));
  return inOrder([...kept, ...put]);
}

/** Ways from a key to the next, with the meaning of CSS cubic-bezier; null: as its joint says. */
export const eases: { name: string; ease: [number, number, number, number] | null }[] = [
  { name: 'By the type of the key', ease: null },
  { name: 'Ease out of the key', ease: [0.42, 0, 1, 1] },
  { name: 'Ease into the next', ease: [0, 0, 0.58, 1] },
  { name: 'Ease out and in', ease: [0.42, 0, 0.58, 1] },
  { name: 'Overshoot', ease: [0.34, 1.56, 0.64, 1] },
];
