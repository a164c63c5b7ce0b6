import { Live, type Run } from '../api/live';
import type { Picture } from '../api/picture';
import type { Figures, LiveHeader, Problem, Shot } from '../api/client';
import { framesPerSecond } from '../ui/rates';
import type { Orbit, View } from './scene_items';

/** Events of a player. */
interface Hears {
  /** A picture has come, of a revision of the shot. */
  revision(revision: number): void;
  /** The exact picture of a frame at rest is there. */
  rest(): void;
  /** It is looked from elsewhere. */
  orbit(): void;
}

/** The picture of a shot: which frame, how it plays, and what of it is seen. */
export class Player {
  frame = $state(0);
  playing = $state(false);
  view = $state<View>('plate');
  range = $state<[number, number]>([0, 0]);
  orbit = $state<Orbit | null>(null);
  picture = $state.raw<Picture | null>(null);
  header = $state.raw<LiveHeader | null>(null);
  computed = $state.raw<LiveHeader['computed']>([]);
  /** A run that the picture waits for. */
  run = $state<Run | null>(null);
  problem = $state<Problem | null>(null);
  connected = $state(true);
  private width = $state(0);
  private live: Live;

  constructor(
    id: number,
    private readonly shot: () => Shot | null,
    private readonly hears: Hears,
  ) {
    this.live = new Live(id, {
      picture: (header, picture) => {
        this.picture?.close();
        this.picture = picture;
        this.header = header;
        this.run = null;
        this.computed = header.computed;
        hears.revision(header.revision);
        if (this.playing && header.playing) this.frame = header.frame;
        else if (header.exact) hears.rest();
      },
      computed: (ranges) => (this.computed = ranges),
      running: (run) => (this.run = run),
      problem: (problem, revision) => {
        this.problem = problem;
        if (revision !== undefined) hears.revision(revision);
        if (problem) this.playing = false;
      },
      connected: (yes) => (this.connected = yes),
    });
  }

  close(): void {
    this.live.close();
  }

  get figures(): Figures | null {
    return this.header?.figures ?? null;
  }

  get fps(): number {
    const shot = this.shot();
    return shot ? framesPerSecond(shot.rate) : 25;
  }

  /** Shot time of the playhead in seconds. */
  get now(): number {
    const shot = this.shot();
    return shot ? (this.frame - shot.first_frame) / this.fps : 0;
  }

  /** Position of the playhead in words: its frame, which nobody can read while it plays. */
  get where(): string {
    return this.playing ? 'the playhead' : String(this.frame);
  }

  /** Width and height of the picture that is asked for. */
  get pictureSize(): [number, number] {
    const shot = this.shot();
    return [this.width, shot ? (this.width * shot.height) / shot.width : 0];
  }

  /** A shot is on the desk: its whole range, and a frame near its middle. */
  begin(shot: Shot): void {
    this.range = [shot.first_frame, shot.last_frame];
    this.frame = shot.first_frame + Math.round((shot.last_frame - shot.first_frame) * 0.45);
    this.see();
  }

  /** Keep the range within the shot, which may have become another. */
  within(shot: Shot): void {
    const [first, last] = [shot.first_frame, shot.last_frame];
    this.range = [
      Math.max(first, Math.min(this.range[0], last)),
      Math.min(last, Math.max(this.range[1], first)),
    ];
  }

  size(width: number): void {
    if (Math.abs(width - this.width) < 1) return;
    this.width = width;
    this.see();
  }

  see(): void {
    if (!this.shot() || this.width < 16) return;
    const [first, last] = this.range;
    const o = this.orbit;
    const orbit: [number, number, number] | null = o ? [o.side, o.above, o.far] : null;
    const ask = { frame: this.frame, width: this.width, view: this.view, first, last, orbit };
    this.live.ask({ kind: this.playing ? 'play' : 'see', ...ask });
  }

  go(frame: number): void {
    const shot = this.shot();
    if (!shot) return;
    this.playing = false;
    this.frame = Math.round(Math.min(Math.max(frame, shot.first_frame), shot.last_frame));
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
    this.hears.orbit();
  }
}
