import { api, got } from '../api/client';
import { notices } from '../state/notices.svelte';

const EVERY_MS = 120;

/** Waits for the next address that moves. */
class Learn {
  /** For whom. */
  target = $state<string | null>(null);
  private counts: Record<string, number> | null = null;
  private take: (address: string) => void = () => {};

  begin(target: string, take: (address: string) => void): void {
    const running = this.target !== null;
    this.target = this.target === target ? null : target;
    this.take = take;
    this.counts = null;
    if (this.target && !running) void this.look();
  }

  private async look(): Promise<void> {
    if (this.target === null) return;
    try {
      const now = await got(api.GET('/api/incoming'));
      const known = (this.counts ??= Object.fromEntries(now.arrived.map((one) => [one.address, one.count])));
      // The pointer moves all the time, above all on its way to the button.
      const moved = now.arrived.find(
        (one) => one.count !== (known[one.address] ?? 0) && !/^\/(pointer|stage)\//.test(one.address),
      );
      if (moved && this.target !== null) {
        this.target = null;
        this.take(moved.address);
        return;
      }
    } catch (error) {
      this.target = null;
      notices.trouble(error);
      return;
    }
    setTimeout(() => void this.look(), EVERY_MS);
  }
}

export const learn = new Learn();
