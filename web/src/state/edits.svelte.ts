import jsonpatch, { type Operation } from 'fast-json-patch';
import { Refused, type Change, type Problem, type Shot, type ShotState } from '../api/client';
import { notices } from './notices.svelte';

export interface Edit {
  changes: Change[];
  label: string;
  gesture: string | null;
  /** It was sent before, and may have been made although no answer came. */
  again?: boolean;
}

/** How long it waits before an edit is sent again, at first and at most. */
const AGAIN_MS = 500;
const AGAIN_AT_MOST_MS = 8000;

/** Whether an edit may still be valid: the studio did not answer, was too busy, or failed on it. */
const unanswered = (error: unknown): boolean =>
  !(error instanceof Refused) || error.status === 0 || error.status >= 500;

let gestures = 0;
/** The id of one gesture: a drag, from press to release, is one step of undo. */
export function newGesture(): string {
  return `${Date.now().toString(36)}-${++gestures}`;
}

/** A copy of a shot with changes made; null where they do not fit it. */
export function changed(shot: Shot, changes: readonly Change[]): Shot | null {
  try {
    // Values are copied: what was queued must not change with the document.
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
  /** How many edits wait for a studio that does not answer. */
  held = $state(0);
  refusal = $state<Problem | null>(null);
  busy = false;
  private waiting: Edit[] = [];

  constructor(
    private readonly send: (edit: Edit) => Promise<ShotState>,
    /** last: nothing newer is on its way. */
    private readonly took: (state: ShotState, last: boolean) => void,
    private readonly failed: () => Promise<void>,
    private readonly pause = (ms: number) => new Promise<void>((done) => setTimeout(done, ms)),
  ) {}

  get idle(): boolean {
    return !this.busy && this.waiting.length === 0;
  }

  put(edit: Edit): void {
    this.refusal = null;
    // By its gesture the studio knows an edit again that is sent twice.
    this.waiting = queued(this.waiting, { ...edit, gesture: edit.gesture ?? newGesture() });
    void this.flush();
  }

  private async flush(): Promise<void> {
    if (this.busy) return;
    this.busy = this.saving = true;
    let wait = AGAIN_MS;
    try {
      while (this.waiting.length > 0) {
        const edit = this.waiting.shift()!;
        try {
          const state = await this.send(edit);
          if (this.held) notices.say('The studio answers again. Your edits are saved.');
          this.held = 0;
          wait = AGAIN_MS;
          this.took(state, this.waiting.length === 0);
        } catch (error) {
          if (unanswered(error)) {
            await this.hold(edit, error, wait);
            wait = Math.min(AGAIN_AT_MOST_MS, 2 * wait);
            continue;
          }
          // This one is wrong; those that wait behind it may be right.
          if (error instanceof Refused) this.refusal = error.problem;
          notices.trouble(error);
          await this.failed().catch((other: unknown) => notices.trouble(other));
        }
      }
    } finally {
      this.busy = this.saving = false;
    }
  }

  /** Keep an edit that was not answered, say so once, and wait before it is sent again. */
  private async hold(edit: Edit, error: unknown, ms: number): Promise<void> {
    const first = this.held === 0;
    // What only replaces values may be made twice; what adds or removes is made once.
    const again = edit.again || edit.changes.some((change) => change.op !== 'replace');
    this.waiting = [{ ...edit, again }, ...this.waiting];
    this.held = this.waiting.length;
    if (first) {
      notices.trouble(error);
      notices.say('Your edits are stored here and sent again until the studio answers.');
    }
    await this.pause(ms);
  }
}
