import jsonpatch, { type Operation } from 'fast-json-patch';
import { Refused, type Change, type Problem, type Shot, type ShotState } from '../api/client';
import { notices } from './notices.svelte';

export interface Edit {
  changes: Change[];
  label: string;
  gesture: string | null;
}

let gestures = 0;
/** The name of one gesture: a drag, from press to release, is one step of undo. */
export function newGesture(): string {
  return `${Date.now().toString(36)}-${++gestures}`;
}

/** A copy of a shot with changes made; null where they do not fit it. */
export function changed(shot: Shot, changes: readonly Change[]): Shot | null {
  try {
    // Values are put in as they are: what is sent must not change with the copy.
    const steps = structuredClone(changes) as Operation[];
    return jsonpatch.applyPatch(structuredClone(shot), steps, false, true).newDocument;
  } catch {
    return null;
  }
}

/** Edits with the newest one: those of one gesture are one, whose last word counts. */
export function queued(waiting: readonly Edit[], next: Edit): Edit[] {
  const last = waiting[waiting.length - 1];
  if (!last || next.gesture === null || last.gesture !== next.gesture) return [...waiting, next];
  const paths = next.changes.map((c) => c.path);
  const kept = last.changes.filter((c) => c.op !== 'replace' || !paths.includes(c.path));
  return [...waiting.slice(0, -1), { ...last, changes: [...kept, ...next.changes] }];
}

/** Edits on their way to the studio, one after the other. */
export class Edits {
  saving = $state(false);
  refusal = $state<Problem | null>(null);
  busy = false;
  private waiting: Edit[] = [];

  constructor(
    private readonly send: (edit: Edit) => Promise<ShotState>,
    /** last: nothing newer is on its way. */
    private readonly took: (state: ShotState, last: boolean) => void,
    private readonly failed: () => Promise<void>,
  ) {}

  get idle(): boolean {
    return !this.busy && this.waiting.length === 0;
  }

  put(edit: Edit): void {
    this.refusal = null;
    this.waiting = queued(this.waiting, edit);
    void this.flush();
  }

  private async flush(): Promise<void> {
    if (this.busy) return;
    this.busy = this.saving = true;
    try {
      while (this.waiting.length > 0) {
        const state = await this.send(this.waiting.shift()!);
        this.took(state, this.waiting.length === 0);
      }
    } catch (error) {
      this.waiting = [];
      if (error instanceof Refused) this.refusal = error.problem;
      notices.trouble(error);
      await this.failed();
    } finally {
      this.busy = this.saving = false;
    }
  }
}
