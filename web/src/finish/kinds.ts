import type { Deformer, Step } from '../api/client';

/** What the effects of a layer are, in a few words. */
export function finishAbout(steps: readonly (Step | Deformer)[]): string {
  return steps
    .filter((s) => s.on)
    .map((s) => s.kind)
    .join(' · ');
}
