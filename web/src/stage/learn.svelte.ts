import { api, got } from '../api/client';
import { notices } from '../state/notices.svelte';

const EVERY_MS = 120;

/** Waits for the next address that moves. */
class Learn {
  /** For whom. */
  who = $state<string | null>(null);
  private counts: Record<string, number> | null = null;
  private take: (address: string) => void = () => {};

  begin(who: string, take: (address: string) => void): void {
    const running = this.who !== null;
    this.who = this.who === who ? null : who;
    this.take = take;
    this.counts = null;
    if (this.who && !running) void this.look();
  }

  private async look(): Promise<void> {
    if (this.who === null) return;
    try {
      const now = await got(api.GET('/api/incoming'));
      const known = (this.counts ??= Object.fromEntries(now.arrived.map((one) => [one.address, one.count])));
      // The pointer moves all the time, above all on its way to the button.
      const moved = now.arrived.find(
        (one) => one.count !== (known[one.address] ?? 0) && !/^\/(pointer|stage)\//.test(one.address),
      );
      if (moved && this.who !== null) {
        this.who = null;
        this.take(moved.address);
        return;
      }
    } catch (error) {
      this.who = null;
      notices.trouble(error);
      return;
    }
    setTimeout(() => void this.look(), EVERY_MS);
  }
}

export const learn = new Learn();
