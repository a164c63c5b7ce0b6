import { Live } from '../api/live';
import {
  get,
  Refused,
  send,
  type Change,
  type Emitter,
  type Figures,
  type Force,
  type Guides,
  type LiveHeader,
  type Problem,
  type Shot,
  type ShotState,
} from '../api/client';
import { notices } from './notices.svelte';

export type View = 'plate' | 'particles' | 'alpha';
export type Chosen = { kind: 'shot' | 'plate' } | { kind: 'emitter' | 'force'; id: string };

interface Waiting {
  changes: Change[];
  label: string;
  gesture: string | null;
}

let gestures = 0;
/** The name of one gesture: a drag, from press to release, is one step of undo. */
export function newGesture(): string {
  return `${Date.now().toString(36)}-${++gestures}`;
}

/** Put a value at a JSON pointer of a plain object. */
export function place(target: unknown, path: string, value: unknown): void {
  const parts = path.split('/').slice(1);
  let at = target as Record<string, unknown>;
  for (const part of parts.slice(0, -1)) at = at[part] as Record<string, unknown>;
  at[parts[parts.length - 1]!] = value;
}

/** One shot on the desk: its document, what is chosen, what is seen. Edits go to the studio in order, the newest wins. */
export class Desk {
  state = $state<ShotState | null>(null);
  shot = $state<Shot | null>(null);
  frame = $state(0);
  playing = $state(false);
  view = $state<View>('plate');
  range = $state<[number, number]>([0, 0]);
  picture = $state.raw<ImageBitmap | null>(null);
  header = $state.raw<LiveHeader | null>(null);
  computed = $state.raw<LiveHeader['computed']>([]);
  problem = $state<Problem | null>(null);
  refusal = $state<Problem | null>(null);
  connected = $state(true);
  saving = $state(false);
  shaping = $state(false);
  guidesOn = $state(true);
  picking = $state<((colour: string) => void) | null>(null);
  solo = $state<string[] | null>(null);

  private width = 0;
  private current = $state<Chosen>({ kind: 'shot' });
  private onDesk = $state<string | null>(null);
  private live: Live;
  private waiting: Waiting[] = [];
  private busy = false;

  constructor(readonly id: number) {
    this.live = new Live(id, {
      picture: (header, picture) => {
        this.picture?.close();
        this.picture = picture;
        this.header = header;
        this.computed = header.computed;
        this.compare(header.revision);
        if (this.playing && header.playing) this.frame = header.frame;
      },
      computed: (ranges) => (this.computed = ranges),
      problem: (problem, revision) => {
        this.problem = problem;
        if (revision !== undefined) this.compare(revision);
        if (problem) this.playing = false;
      },
      connected: (yes) => (this.connected = yes),
    });
  }

  async load(): Promise<void> {
    this.take(await get<ShotState>(`/api/shots/${this.id}`));
    const shot = this.shot!;
    this.range = [shot.first_frame, shot.last_frame];
    this.frame = shot.first_frame + Math.round((shot.last_frame - shot.first_frame) * 0.45);
    const last = shot.emitters[shot.emitters.length - 1];
    if (last) this.chosen = { kind: 'emitter', id: last.id };
    this.see();
  }

  close(): void {
    this.live.close();
  }

  get figures(): Figures | null {
    return this.header?.figures ?? null;
  }

  get chosen(): Chosen {
    return this.current;
  }

  set chosen(thing: Chosen) {
    this.current = thing;
    if (thing.kind === 'emitter') this.onDesk = thing.id;
  }

  /** The emitter that is chosen, if one is. */
  get chosenEmitter(): Emitter | null {
    return this.chosen.kind === 'emitter' ? this.emitter : null;
  }

  /** The emitter whose life lies on the desk: it stays there while a force, the plate or the shot is chosen. */
  get emitter(): Emitter | null {
    const emitters = this.shot?.emitters ?? [];
    return emitters.find((e) => e.id === this.onDesk) ?? emitters[emitters.length - 1] ?? null;
  }

  get emitterPath(): string {
    return `/emitters/${this.shot?.emitters.findIndex((e) => e.id === this.emitter?.id) ?? -1}`;
  }

  get force(): Force | null {
    const chosen = this.chosen;
    return chosen.kind === 'force' ? (this.shot?.forces.find((f) => f.id === chosen.id) ?? null) : null;
  }

  get guides(): Guides | null {
    return this.state?.guides.find((g) => g.emitter === this.emitter?.id) ?? null;
  }

  /** The JSON pointer of the chosen thing. */
  get path(): string {
    const chosen = this.chosen;
    if (!this.shot || !('id' in chosen)) return chosen.kind === 'plate' ? '/plate' : '';
    const list = chosen.kind === 'emitter' ? this.shot.emitters : this.shot.forces;
    const { id } = chosen;
    return `/${chosen.kind}s/${list.findIndex((thing) => thing.id === id)}`;
  }

  // Looking

  size(width: number): void {
    if (Math.abs(width - this.width) < 1) return;
    this.width = width;
    this.see();
  }

  see(): void {
    if (!this.shot || this.width < 16) return;
    const [first, last] = this.range;
    const ask = { frame: this.frame, width: this.width, view: this.view, first, last };
    this.live.ask({ kind: this.playing ? 'play' : 'see', ...ask });
  }

  go(frame: number): void {
    if (!this.shot) return;
    this.playing = false;
    this.frame = Math.round(Math.min(Math.max(frame, this.shot.first_frame), this.shot.last_frame));
    this.see();
  }

  play(on = !this.playing): void {
    this.playing = on;
    if (on && (this.frame < this.range[0] || this.frame >= this.range[1])) this.frame = this.range[0];
    this.see();
  }

  show(view: View): void {
    this.view = view;
    this.see();
  }

  // Editing

  set(path: string, value: unknown, label: string, gesture: string | null = null): void {
    this.change([{ op: 'replace', path, value }], label, gesture);
  }

  change(changes: Change[], label: string, gesture: string | null = null): void {
    if (!this.shot) return;
    this.refusal = null;
    const copy = $state.snapshot(this.shot) as Shot;
    if (changes.every((c) => c.op === 'replace')) {
      for (const c of changes) place(copy, c.path, c.value);
      this.shot = copy;
    }
    const last = this.waiting[this.waiting.length - 1];
    if (last && gesture !== null && last.gesture === gesture) {
      const paths = changes.map((c) => c.path);
      last.changes = [
        ...last.changes.filter((c) => c.op !== 'replace' || !paths.includes(c.path)),
        ...changes,
      ];
    } else this.waiting.push({ changes, label, gesture });
    void this.flush();
  }

  private async flush(): Promise<void> {
    if (this.busy) return;
    this.busy = this.saving = true;
    try {
      while (this.waiting.length > 0) {
        const next = this.waiting.shift()!;
        const state = await send<ShotState>('PATCH', `/api/shots/${this.id}`, next);
        if (this.waiting.length === 0) this.take(state);
        else this.state = state;
      }
    } catch (error) {
      this.waiting = [];
      if (error instanceof Refused) this.refusal = error.problem;
      notices.trouble(error);
      await this.reload();
    } finally {
      this.busy = this.saving = false;
    }
  }

  /** Somebody else edited the shot, in another window or over the API: take what it is now. */
  private compare(revision: number): void {
    if (this.state && revision > this.state.revision && !this.busy && this.waiting.length === 0)
      void this.reload();
  }

  private async reload(): Promise<void> {
    try {
      this.take(await get<ShotState>(`/api/shots/${this.id}`));
    } catch (error) {
      notices.trouble(error);
    }
  }

  private take(state: ShotState): void {
    this.state = state;
    this.shot = state.document;
    const [first, last] = [state.document.first_frame, state.document.last_frame];
    this.range = [
      Math.max(first, Math.min(this.range[0], last)),
      Math.min(last, Math.max(this.range[1], first)),
    ];
    if (this.chosen.kind === 'emitter' && this.emitter?.id !== this.chosen.id) this.chosen = { kind: 'shot' };
    if (this.chosen.kind === 'force' && !this.force) this.chosen = { kind: 'shot' };
  }

  async act(method: string, tail: string, body?: unknown): Promise<void> {
    try {
      while (this.busy) await new Promise((wait) => setTimeout(wait, 10));
      const before = [...(this.shot?.emitters ?? []), ...(this.shot?.forces ?? [])].map((t) => t.id);
      this.take(await send<ShotState>(method, `/api/shots/${this.id}${tail}`, body));
      const made = this.shot?.emitters.find((e) => !before.includes(e.id));
      const force = this.shot?.forces.find((f) => !before.includes(f.id));
      if (tail === '/cast' && made) this.chosen = { kind: 'emitter', id: made.id };
      else if (tail === '/cast' && force) this.chosen = { kind: 'force', id: force.id };
    } catch (error) {
      notices.trouble(error);
    }
  }

  undo = (): Promise<void> => this.act('POST', '/undo');
  redo = (): Promise<void> => this.act('POST', '/redo');

  add(kind: 'emitter' | 'gravity' | 'drag', copyOf?: string): Promise<void> {
    return this.act('POST', '/cast', { kind, copy_of: copyOf ?? null });
  }

  remove(id: string): Promise<void> {
    return this.act('DELETE', `/cast/${encodeURIComponent(id)}`);
  }

  /** Turn a link of the reach on or off. */
  link(force: string, emitter: string): void {
    const links = this.shot!.links;
    const without = links.filter((l) => l.force !== force || l.emitter !== emitter);
    const on = without.length === links.length;
    this.set('/links', on ? [...links, { force, emitter }] : without, on ? 'Reach' : 'No reach');
  }

  /** Show one emitter alone, by switching the others off; a second time brings them back. */
  alone(id: string): void {
    const shot = this.shot!;
    const others = shot.emitters.map((e, i) => [e, i] as const).filter(([e]) => e.id !== id);
    const on = this.solo === null;
    const back = this.solo ?? [];
    const changes = others.map(([e, i]) => ({
      op: 'replace' as const,
      path: `/emitters/${i}/on`,
      value: on ? false : back.includes(e.id),
    }));
    this.solo = on ? others.filter(([e]) => e.on).map(([e]) => e.id) : null;
    if (changes.length) this.change(changes, on ? 'Show alone' : 'Show all');
  }
}
