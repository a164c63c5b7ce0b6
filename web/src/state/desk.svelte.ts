import {
  api,
  got,
  type Change,
  type Emitter,
  type Force,
  type Guides,
  type NumberValue,
  type Scene,
  type Shot,
  type ShotState,
  type Thing,
} from '../api/client';
import { withKey } from '../timeline/keys';
import { changed, Edits } from './edits.svelte';
import { notices } from './notices.svelte';
import { Player } from './player.svelte';
import { found, lists, type Selection, type ThingKind } from './scene_items';
import { Tools } from './tools.svelte';

/** One shot on the desk: its document, what of it is chosen, and what brings its picture, its edits and its tools together. */
export class Desk {
  state = $state<ShotState | null>(null);
  shot = $state<Shot | null>(null);
  /** A number is being dragged. */
  shaping = $state(false);
  readonly player: Player;
  readonly edits: Edits;
  readonly tools = new Tools();

  private current = $state<Selection>({ kind: 'shot' });
  private onDesk = $state<string | null>(null);

  constructor(readonly id: number) {
    this.player = new Player(id, () => this.shot, {
      revision: (revision) => this.compare(revision),
      rest: () => this.lookAgain(),
      orbit: () => void this.freshGuides(),
    });
    this.edits = new Edits(
      (edit) => {
        const thing = this.selection.kind === 'force' ? this.selection.id : null;
        const body = {
          ...edit,
          again: edit.again ?? false,
          frame: this.player.frame,
          thing,
          having: this.had.map(([mark]) => mark),
        };
        return got(api.PATCH('/api/shots/{shot_id}', { params: this.params, body }));
      },
      (state, last) => {
        if (last) this.take(state);
        else this.state = this.withGuides(state);
        if (this.player.orbit) void this.freshGuides();
      },
      () => this.reload(),
    );
  }

  private get params(): { path: { shot_id: number } } {
    return { path: { shot_id: this.id } };
  }

  async load(): Promise<void> {
    this.take(await got(api.GET('/api/shots/{shot_id}', { params: this.params })));
    const last = this.shot!.emitters[this.shot!.emitters.length - 1];
    if (last) this.selection = { kind: 'emitter', id: last.id };
    this.player.begin(this.shot!);
  }

  close(): void {
    this.player.close();
  }

  get selection(): Selection {
    return this.current;
  }

  set selection(thing: Selection) {
    this.current = thing;
    if (thing.kind === 'emitter') this.onDesk = thing.id;
    // The field of a force is drawn when it is chosen.
    if (thing.kind === 'force' && this.scene) void this.freshGuides();
  }

  /** The emitter that is chosen, if one is. */
  get chosenEmitter(): Emitter | null {
    return this.selection.kind === 'emitter' ? this.emitter : null;
  }

  /** The emitter whose life the desk shows: it stays while a force, the plate or the shot is selected. */
  get emitter(): Emitter | null {
    const emitters = this.shot?.emitters ?? [];
    return emitters.find((e) => e.id === this.onDesk) ?? emitters[emitters.length - 1] ?? null;
  }

  get emitterPath(): string {
    return `/emitters/${this.shot?.emitters.findIndex((e) => e.id === this.emitter?.id) ?? -1}`;
  }

  get force(): Force | null {
    return this.selection.kind === 'force' ? (this.thing as Force | null) : null;
  }

  /** The chosen thing of the cast, whatever its kind. */
  get thing(): Thing | null {
    const chosen = this.selection;
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
    const chosen = this.selection;
    return 'id' in chosen ? this.pathOf(chosen.id) : chosen.kind === 'plate' ? '/plate' : '';
  }

  /** What a number is at the playhead: its plain value, or what its keys and flutter make of it, as the engine says. */
  valueNow(path: string, number: NumberValue): number {
    const values = this.scene?.graphs.find((g) => g.path === path)?.values;
    if (!values || !this.shot) return number.value;
    const span = Math.max(1, this.shot.last_frame - this.shot.first_frame);
    const at = ((this.player.frame - this.shot.first_frame) / span) * (values.length - 1);
    const left = Math.min(values.length - 2, Math.max(0, Math.floor(at)));
    const share = at - left;
    return values[left]! + share * (values[left + 1]! - values[left]!);
  }

  /** For which frame, and for the field of which force, guides are wanted. */
  private get asked(): { frame: number; thing?: string } {
    const thing = this.selection.kind === 'force' ? { thing: this.selection.id } : {};
    return { frame: this.player.frame, ...thing };
  }

  private looked: object | null = null;
  private lookAgain(): void {
    if (!this.scene || (!this.scene.moving && !this.player.orbit) || this.edits.busy || this.shaping) return;
    if (this.scene.frame !== this.player.frame) void this.freshGuides();
  }

  private async freshGuides(): Promise<void> {
    const query = { ...this.asked, ...(this.player.orbit ?? {}) };
    this.looked = query;
    const of = this.state;
    try {
      const scene = await got(api.GET('/api/shots/{shot_id}/guides', { params: { ...this.params, query } }));
      if (this.looked !== query || !this.state || this.edits.busy) return;
      // An edit that was answered meanwhile brought its own, which are newer.
      if (this.state === of) this.state.guides = scene;
      else this.lookAgain();
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
        value: withKey(keys, this.player.now, value, 0.5 / this.player.fps),
      };
    });
    this.change(changes, label, gesture);
  }

  set(path: string, value: unknown, label: string, gesture: string | null = null): void {
    this.change([{ op: 'replace', path, value }], label, gesture);
  }

  change(changes: Change[], label: string, gesture: string | null = null): void {
    if (!this.shot) return;
    // What is new is whole only when the studio has filled it in.
    if (changes.every((c) => c.op === 'replace'))
      this.shot = changed($state.snapshot(this.shot) as Shot, changes) ?? this.shot;
    this.edits.put({ changes, label, gesture });
  }

  /** The shot was edited elsewhere, in another window or over the API: load it. */
  private compare(revision: number): void {
    this.heard = revision;
    if (this.state && revision > this.state.revision && this.edits.idle) void this.reload();
  }

  private taken = 0;
  /** The revision that was announced while the shot was loading. */
  private heard = 0;
  private reloading = false;

  async reload(): Promise<void> {
    if (this.reloading) return;
    this.reloading = true;
    this.heard = 0;
    const before = this.taken;
    try {
      const state = await got(
        api.GET('/api/shots/{shot_id}', { params: { ...this.params, query: this.asked } }),
      );
      // An edit that was answered meanwhile is newer.
      if (this.taken === before) this.take(state);
    } catch (error) {
      notices.trouble(error);
    } finally {
      this.reloading = false;
      this.compare(this.heard);
    }
  }

  /** Guides as they came, by their marks: an answer leaves those out that are there. */
  private had: [number, Guides][] = [];
  private withGuides(state: ShotState): ShotState {
    const { document, marks, guides } = state;
    const emitters = document.emitters.flatMap(
      ({ id }) =>
        guides.emitters.find((g) => g.emitter === id) ??
        this.had.find(([mark]) => mark === marks[id])?.[1] ??
        [],
    );
    this.had = emitters.map((g) => [marks[g.emitter]!, g]);
    return { ...state, guides: { ...guides, emitters } };
  }

  private take(state: ShotState): void {
    this.taken++;
    this.state = this.withGuides(state);
    this.shot = state.document;
    this.player.within(state.document);
    if ('id' in this.selection && !this.thing) this.selection = { kind: 'shot' };
    if (this.tools.graph && !found(this.shot, this.tools.graph)) this.tools.graph = null;
  }

  /** Do something that gives a new state; what has come with it is chosen. */
  async act(doing: () => Promise<ShotState>, choose = false): Promise<void> {
    try {
      while (this.edits.busy) await new Promise((wait) => setTimeout(wait, 10));
      const before = lists.flatMap((list) => this.shot![list].map((t) => t.id));
      this.take(await doing());
      if (!choose) return;
      for (const list of lists) {
        const every: readonly Thing[] = this.shot![list];
        const made = every.filter((thing) => !before.includes(thing.id)).pop();
        if (!made) continue;
        this.selection = { kind: list.slice(0, -1) as ThingKind, id: made.id };
        return;
      }
    } catch (error) {
      notices.trouble(error);
    }
  }

  undo = (): Promise<void> =>
    this.act(() => got(api.POST('/api/shots/{shot_id}/undo', { params: this.params })));

  redo = (): Promise<void> =>
    this.act(() => got(api.POST('/api/shots/{shot_id}/redo', { params: this.params })));

  add(
    kind: string,
    copyOf?: string,
    how: { with_ties?: boolean; mirror?: 'across' | 'up' } = {},
  ): Promise<void> {
    const body = { kind, copy_of: copyOf ?? null, with_ties: false, mirror: null, ...how };
    return this.act(() => got(api.POST('/api/shots/{shot_id}/cast', { params: this.params, body })), true);
  }

  /** Add an emitter of the library, with all that it depends on. */
  plant(preset: string): Promise<void> {
    const body = { preset };
    return this.act(() => got(api.POST('/api/shots/{shot_id}/plant', { params: this.params, body })), true);
  }

  remove(id: string): Promise<void> {
    const params = { path: { shot_id: this.id, thing_id: id } };
    return this.act(() => got(api.DELETE('/api/shots/{shot_id}/cast/{thing_id}', { params })));
  }

  /** A recorded way becomes keys of a thing's place. */
  record(
    id: string,
    samples: { at_s: number; across: number; up: number }[],
    tolerance: number,
  ): Promise<void> {
    const params = { path: { shot_id: this.id, thing_id: id } };
    const body = { samples, tolerance };
    return this.act(() => got(api.POST('/api/shots/{shot_id}/record/{thing_id}', { params, body })));
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
    const list = this.tools.solo?.list ?? (shot.forces.some((f) => f.id === id) ? 'forces' : 'emitters');
    const things: readonly { id: string; on: boolean }[] = list === 'forces' ? shot.forces : shot.emitters;
    const back = this.tools.solo?.back ?? null;
    const changes = things
      .map((thing, i) => ({ thing, path: `/${list}/${i}/on` }))
      .filter(({ thing }) => (back ? back.includes(thing.id) : thing.id !== id && thing.on))
      .map(({ path }) => ({ op: 'replace' as const, path, value: back !== null }));
    const off = things.filter((thing) => thing.id !== id && thing.on).map((thing) => thing.id);
    this.tools.solo = back ? null : { list, back: off };
    if (changes.length) this.change(changes, back ? 'End solo' : 'Solo');
  }
}
