import type { Step } from '../api/client';

/** The kinds of steps, in the order of the menu: kind, label, model in the schema. */
export const stepKinds: [Step['kind'], string, string][] = [
  ['blur', 'Blur', 'Blur'],
  ['directional blur', 'Directional blur', 'DirectionalBlur'],
  ['glow', 'Glow', 'Glow'],
  ['tint', 'Tint', 'Tint'],
  ['grade', 'Grade and curve', 'Grade'],
  ['sharpen', 'Sharpen', 'Sharpen'],
  ['grain', 'Grain', 'Grain'],
];

/** What a finish does, in a few words. */
export function finishAbout(steps: readonly Step[]): string {
  return steps
    .filter((s) => s.on)
    .map((s) => s.kind)
    .join(' · ');
}
