import { api, got, type Shot } from '../api/client';
import { Player } from '../state/player.svelte';

/** A picture on the stage is not wider: what a screen shows, and a machine draws in time. */
const WIDEST = 1920;

/** A shot on the stage: it plays, comes round, and takes up what is edited meanwhile. */
export class Scene {
  shot = $state.raw<Shot | null>(null);
  name = $state('');
  readonly player: Player;
  private revision = 0;
  private asking = false;

  constructor(readonly id: number) {
    this.player = new Player(id, () => this.shot, {
      revision: (revision) => {
        if (revision > this.revision) void this.load();
      },
      rest: () => {},
      orbit: () => {},
    });
  }

  /** Know the shot as it is now. */
  async load(): Promise<void> {
    if (this.asking) return;
    this.asking = true;
    try {
      const params = { path: { shot_id: this.id } };
      const state = await got(api.GET('/api/shots/{shot_id}', { params }));
      const before = this.shot;
      this.shot = state.document;
      this.name = state.document.name;
      this.revision = state.revision;
      const [first, last] = [this.shot.first_frame, this.shot.last_frame];
      if (before && (before.first_frame !== first || before.last_frame !== last)) {
        this.player.range = [first, last];
        this.player.see();
      }
    } finally {
      this.asking = false;
    }
  }

  /** Play from the beginning, so large that it fills a window. */
  begin(width: number, height: number): void {
    const shot = this.shot!;
    this.player.range = [shot.first_frame, shot.last_frame];
    this.player.frame = shot.first_frame;
    this.resize(width, height);
    this.player.play(true);
  }

  resize(width: number, height: number): void {
    const shot = this.shot;
    if (!shot) return;
    const wide = Math.min(width, (height * shot.width) / shot.height, WIDEST);
    this.player.size(Math.max(16, Math.round(wide)));
  }

  close(): void {
    this.player.close();
  }
}
