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
  type Key,
  type LiveHeader,
  type NumberValue,
  type Problem,
  type Scene,
  type Shot,
  type ShotState,
  type Thing,
} from '../api/client';
import { framesPerSecond } from '../ui/rates';
import { withKey } from '../strip/keys';
import { notices } from './notices.svelte';
import {
  found,
  lists,
  place,
  type Box,
  type Chosen,
  type Comparison,
  type Followed,
  type List,
  type Orbit,
  type ThingKind,
  type View,
} from './things';

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

/** One shot on the desk: its document, what is chosen, what is seen. Edits go to the studio in order, the newest wins. */
export class Desk {
  state = $state<ShotState | null>(null);
  shot = $state<Shot | null>(null);
  frame = $state(0);
  /** A whole place that was copied; see `places`. */
  placeCopied = $state.raw<Record<string, number> | null>(null);
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
  /** A region of the plate is to be drawn, in px of the shot. */
  framing = $state<((box: Box) => void) | null>(null);
  /** A picture or movie is to be chosen. */
  choosing = $state<{ title: string; take: (media: string) => void } | null>(null);
  comparing = $state<Comparison | null>(null);
  followed = $state.raw<Followed | null>(null);
  solo = $state<{ list: List; back: string[] } | null>(null);
  orbit = $state<Orbit | null>(null);
  graph = $state<string | null>(null);
  /** Numbers beside the particles, and the particle that was pressed on. */
  inspecting = $state(false);
  recording = $state<string | null>(null);
  copied = $state.raw<Key[]>([]);

  private width = $state(0);
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
        else if (header.exact) this.lookAgain();
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
    // The field of a force is drawn when it is chosen.
    if (thing.kind === 'force' && this.scene) void this.freshGuides();
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
    return this.chosen.kind === 'force' ? (this.thing as Force | null) : null;
  }

  /** The chosen thing of the cast, whatever its kind. */
  get thing(): Thing | null {
    const chosen = this.chosen;
    if (!this.shot || !('id' in chosen)) return null;
    const list: readonly Thing[] = this.shot[`${chosen.kind}s`];
    return list.find((thing) => thing.id === chosen.id) ?? null;
  }

  get scene(): Scene | null {
    return this.state?.guides ?? null;
  }

  get guides(): Guides | null {
    return this.scene?.emitters.find((g) => g.emitter === this.emitter?.id) ?? null;
  }

  /** The JSON pointer of a thing of the cast. */
  pathOf(id: string): string {
    for (const list of lists) {
      const at = this.shot?.[list].findIndex((thing) => thing.id === id) ?? -1;
      if (at >= 0) return `/${list}/${at}`;
    }
    return '';
  }

  /** The JSON pointer of the chosen thing. */
  get path(): string {
    const chosen = this.chosen;
    return 'id' in chosen ? this.pathOf(chosen.id) : chosen.kind === 'plate' ? '/plate' : '';
  }

  get fps(): number {
    return this.shot ? framesPerSecond(this.shot.rate) : 25;
  }

  /** Shot time of the playhead in seconds. */
  get now(): number {
    return this.shot ? (this.frame - this.shot.first_frame) / this.fps : 0;
  }

  /** What a number is at the playhead: its plain value, or what its keys and flutter make of it, as the engine says. */
  valueNow(path: string, number: NumberValue): number {
    const values = this.scene?.graphs.find((g) => g.path === path)?.values;
    if (!values || !this.shot) return number.value;
    const span = Math.max(1, this.shot.last_frame - this.shot.first_frame);
    const at = ((this.frame - this.shot.first_frame) / span) * (values.length - 1);
    const left = Math.min(values.length - 2, Math.max(0, Math.floor(at)));
    const share = at - left;
    return values[left]! + share * (values[left + 1]! - values[left]!);
  }

  // Looking

  /** Width and height of the picture that is asked for. */
  get pictureSize(): [number, number] {
    return [this.width, this.shot ? (this.width * this.shot.height) / this.shot.width : 0];
  }

  size(width: number): void {
    if (Math.abs(width - this.width) < 1) return;
    this.width = width;
    this.see();
  }

  see(): void {
    if (!this.shot || this.width < 16) return;
    const [first, last] = this.range;
    const o = this.orbit;
    const orbit: [number, number, number] | null = o ? [o.side, o.above, o.far] : null;
    const ask = { frame: this.frame, width: this.width, view: this.view, first, last, orbit };
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

  /** Look from elsewhere, without touching the shot's camera; null: through the camera. */
  lookFrom(orbit: Orbit | null): void {
    this.orbit = orbit;
    this.see();
    void this.freshGuides();
  }

  /** For which frame, and for the field of which force, guides are wanted. */
  private get asked(): string {
    const force = this.chosen.kind === 'force' ? `&thing=${encodeURIComponent(this.chosen.id)}` : '';
    return `frame=${this.frame}${force}`;
  }

  private looked = '';
  private lookAgain(): void {
    if (!this.scene || (!this.scene.moving && !this.orbit) || this.busy || this.shaping) return;
    if (this.scene.frame !== this.frame) void this.freshGuides();
  }

  private async freshGuides(): Promise<void> {
    const o = this.orbit;
    const query = `${this.asked}${o ? `&side=${o.side}&above=${o.above}&far=${o.far}` : ''}`;
    this.looked = query;
    try {
      const scene = await get<Scene>(`/api/shots/${this.id}/guides?${query}`);
      if (this.looked === query && this.state && !this.busy) this.state.guides = scene;
    } catch (error) {
      notices.trouble(error);
    }
  }

  // Editing

  /** Set a number, or a plain value: where a number has keys, a key at the playhead is set. */
  setNumbers(values: [string, number][], label: string, gesture: string | null = null): void {
    const changes = values.map(([path, value]) => {
      const number = found(this.shot, path);
      if (typeof number !== 'object' || number === null) return { op: 'replace' as const, path, value };
      const { keys } = number as NumberValue;
      if (keys.length === 0) return { op: 'replace' as const, path: `${path}/value`, value };
      return {
        op: 'replace' as const,
        path: `${path}/keys`,
        value: withKey(keys, this.now, value, 0.5 / this.fps),
      };
    });
    this.change(changes, label, gesture);
  }

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
        const thing = this.chosen.kind === 'force' ? this.chosen.id : null;
        const body = { ...next, frame: this.frame, thing };
        const state = await send<ShotState>('PATCH', `/api/shots/${this.id}`, body);
        if (this.waiting.length === 0) this.take(state);
        else this.state = state;
        if (this.orbit) void this.freshGuides();
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
    this.heard = revision;
    if (this.state && revision > this.state.revision && !this.busy && this.waiting.length === 0)
      void this.reload();
  }

  private taken = 0;
  /** The revision that was told of while the shot was on its way. */
  private heard = 0;
  private reloading = false;

  async reload(): Promise<void> {
    if (this.reloading) return;
    this.reloading = true;
    this.heard = 0;
    const before = this.taken;
    try {
      const state = await get<ShotState>(`/api/shots/${this.id}?${this.asked}`);
      // An edit that was answered meanwhile is newer.
      if (this.taken === before) this.take(state);
    } catch (error) {
      notices.trouble(error);
    } finally {
      this.reloading = false;
      this.compare(this.heard);
    }
  }

  private take(state: ShotState): void {
    this.taken++;
    this.state = state;
    this.shot = state.document;
    const [first, last] = [state.document.first_frame, state.document.last_frame];
    this.range = [
      Math.max(first, Math.min(this.range[0], last)),
      Math.min(last, Math.max(this.range[1], first)),
    ];
    if ('id' in this.chosen && !this.thing) this.chosen = { kind: 'shot' };
    if (this.graph && !found(this.shot, this.graph)) this.graph = null;
  }

  async act(method: string, tail: string, body?: unknown): Promise<void> {
    try {
      while (this.busy) await new Promise((wait) => setTimeout(wait, 10));
      const before = lists.flatMap((list) => this.shot![list].map((t) => t.id));
      this.take(await send<ShotState>(method, `/api/shots/${this.id}${tail}`, body));
      if (tail !== '/cast' && tail !== '/plant') return;
      for (const list of lists) {
        const every: readonly Thing[] = this.shot![list];
        const made = every.filter((thing) => !before.includes(thing.id)).pop();
        if (!made) continue;
        this.chosen = { kind: list.slice(0, -1) as ThingKind, id: made.id };
        return;
      }
    } catch (error) {
      notices.trouble(error);
    }
  }

  undo = (): Promise<void> => this.act('POST', '/undo');
  redo = (): Promise<void> => this.act('POST', '/redo');

  add(
    kind: string,
    copyOf?: string,
    how: { with_ties?: boolean; mirror?: 'across' | 'up' } = {},
  ): Promise<void> {
    return this.act('POST', '/cast', { kind, copy_of: copyOf ?? null, ...how });
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

  /** Show one emitter, or one force, alone, by switching the others of its list off; a second time brings them back. */
  alone(id: string): void {
    const shot = this.shot!;
    const list = this.solo?.list ?? (shot.forces.some((f) => f.id === id) ? 'forces' : 'emitters');
    const things: readonly { id: string; on: boolean }[] = list === 'forces' ? shot.forces : shot.emitters;
    const back = this.solo?.back ?? null;
    const changes = things
      .map((thing, i) => ({ thing, path: `/${list}/${i}/on` }))
      .filter(({ thing }) => (back ? back.includes(thing.id) : thing.id !== id && thing.on))
      .map(({ path }) => ({ op: 'replace' as const, path, value: back !== null }));
    const off = things.filter((thing) => thing.id !== id && thing.on).map((thing) => thing.id);
    this.solo = back ? null : { list, back: off };
    if (changes.length) this.change(changes, back ? 'End solo' : 'Solo');
  }
}
