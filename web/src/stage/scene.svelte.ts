import { api, got, type SetEntry, type Shot } from '../api/client';
import { notices } from '../state/notices.svelte';
import { Player } from '../state/player.svelte';
import { Performer } from './performer.svelte';

/** A picture on the stage is not wider: what a screen shows, and a machine draws in time. */
const WIDEST = 1920;
/** Fewer pictures a second than this, some seconds into a show, are worth a word. */
const FEW_FPS = 12;
const SETTLED_S = 3;

/** A shot on the stage: performed, or played repeatedly; it picks up edits meanwhile. */
export class Scene {
  shot = $state.raw<Shot | null>(null);
  name = $state('');
  project = 0;
  /** The emitter that takes the most of a picture, by the forecast. */
  private heaviest = $state('');
  player!: Player | Performer;
  private revision = 0;
  private asking = false;

  constructor(
    readonly id: number,
    private readonly plays: SetEntry['plays'],
  ) {}

  get performed(): Performer | null {
    return this.player instanceof Performer ? this.player : null;
  }

  /** What a show that is too slow says: how slow, by what, and what helps. */
  get slow(): string {
    const header = this.performed?.header;
    if (!header || header.seconds < SETTLED_S || header.fps >= FEW_FPS) return '';
    const most = this.heaviest ? ` ${this.heaviest} takes most of the time.` : '';
    return `${header.fps.toFixed(1)} pictures per second.${most} Reduce the particles or the picture size (L).`;
  }

  /** Load the current shot. */
  async load(): Promise<void> {
    if (this.asking) return;
    this.asking = true;
    try {
      const params = { path: { shot_id: this.id } };
      const state = await got(api.GET('/api/shots/{shot_id}', { params }));
      const before = this.shot;
      this.shot = state.document;
      this.name = state.document.name;
      const ms = (cost: { fixed_ms: number; mpx_ms: number }): number => cost.fixed_ms + cost.mpx_ms;
      const costs = Object.entries(state.guides.cost?.emitters ?? {}).sort((a, b) => ms(b[1]) - ms(a[1]));
      this.heaviest = this.shot.emitters.find((one) => one.id === costs[0]?.[0])?.name ?? '';
      this.project = state.project_id;
      this.revision = state.revision;
      const [first, last] = [this.shot.first_frame, this.shot.last_frame];
      const player = this.player;
      if (
        player instanceof Player &&
        before &&
        (before.first_frame !== first || before.last_frame !== last)
      ) {
        player.range = [first, last];
        player.see();
      }
    } finally {
      this.asking = false;
    }
  }

  /** Play from the beginning, so large that it fills a window, or so wide. */
  begin(width: number, height: number, wide = 0): void {
    const shot = this.shot!;
    const live = shot.controls.some((one) => one.comes_from.address);
    if (this.plays.startsWith('performed') || (this.plays === 'as it suits' && live)) {
      // What is led by music goes as long as that.
      const rounds =
        this.plays === 'performed, in rounds' ||
        (this.plays === 'as it suits' && shot.sounds.length > 0 && !shot.loop);
      this.player = new Performer(this.id, rounds, () => this.shot, {
        kept: (words) => notices.say(`Saved: ${words}.`),
        changed: () => void this.load(),
      });
      this.resize(width, height, wide);
      return;
    }
    const player = new Player(this.id, () => this.shot, {
      revision: (revision) => {
        if (revision > this.revision) void this.load();
      },
      rest: () => {},
      orbit: () => {},
    });
    this.player = player;
    player.range = [shot.first_frame, shot.last_frame];
    player.frame = shot.first_frame;
    this.resize(width, height, wide);
    player.play(true);
  }

  resize(width: number, height: number, wide = 0): void {
    const shot = this.shot;
    if (!shot) return;
    const fits = Math.min(width, (height * shot.width) / shot.height, WIDEST);
    this.player.size(Math.max(16, Math.round(wide || fits)));
  }

  /** Restart. */
  again(): void {
    const player = this.player;
    if (player instanceof Performer) player.again();
    else if (this.shot) {
      player.frame = this.shot.first_frame;
      player.play(true);
    }
  }

  close(): void {
    this.player?.close();
  }
}
