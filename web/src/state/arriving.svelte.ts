import { api, got, type Arrivals, type ControlThing } from '../api/client';
import { newGesture } from './edits.svelte';
import type { Desk } from './desk.svelte';
import { notices } from './notices.svelte';

const EVERY_MS = 70;

/** Input of controllers and trackers, polled while a part of the page needs it; learning, following, recording. */
class Arriving {
  now = $state.raw<Arrivals | null>(null);
  /** The control that takes the next address that moves. */
  learning = $state<string | null>(null);
  /** The controls that go where their addresses go. */
  following = $state<string[]>([]);
  /** A take that is recorded. */
  take = $state<string | null>(null);
  private counts: Record<string, number> = {};
  private gesture = '';
  private looking = 0;
  private timer: ReturnType<typeof setTimeout> | undefined;

  /** Poll until the returned function is called. */
  look(desk: Desk): () => void {
    this.looking += 1;
    if (this.looking === 1) void this.ask(desk);
    return () => {
      this.looking -= 1;
      if (this.looking === 0) clearTimeout(this.timer);
    };
  }

  private async ask(desk: Desk): Promise<void> {
    try {
      const before = this.now;
      this.now = await got(api.GET('/api/incoming'));
      if (before && this.now.restarted > before.restarted) notices.say('Controller input restarted.');
      this.learn(desk);
      this.follow(desk);
    } catch (error) {
      this.now = null;
      notices.trouble(error);
      return;
    }
    if (this.looking > 0) this.timer = setTimeout(() => void this.ask(desk), EVERY_MS);
  }

  /** Take the next address that moves for a control. */
  begin(control: string | null): void {
    this.learning = control;
    this.counts = Object.fromEntries((this.now?.arrived ?? []).map((one) => [one.address, one.count]));
  }

  private learn(desk: Desk): void {
    const moved = this.now?.arrived.find((one) => one.count !== (this.counts[one.address] ?? 0));
    const path = this.learning && desk.pathOf(this.learning);
    if (!moved || !path) return;
    const high = moved.value > 1 ? 127 : 1;
    desk.change(
      [
        { op: 'replace', path: `${path}/comes_from/address`, value: moved.address },
        { op: 'replace', path: `${path}/comes_from/low`, value: 0 },
        { op: 'replace', path: `${path}/comes_from/high`, value: high },
      ],
      'Learn',
    );
    this.learning = null;
  }

  /** Where a control would be by what arrived last, in [0, 1]; null where nothing came. */
  valueOf(control: ControlThing): number | null {
    const { address, low, high } = control.comes_from;
    const found = address ? this.now?.arrived.find((one) => one.address === address) : undefined;
    if (!found) return null;
    return Math.min(
      1,
      Math.max(0, high === low ? Number(found.value >= low) : (found.value - low) / (high - low)),
    );
  }

  private follow(desk: Desk): void {
    if (!this.following.length || this.take || desk.edits.busy) return;
    this.gesture ||= newGesture();
    const values: [string, number][] = [];
    for (const control of desk.shot?.controls ?? []) {
      const value = this.following.includes(control.id) ? this.valueOf(control) : null;
      if (value !== null && Math.abs(value - control.value.value) > 0.002 && control.value.keys.length === 0)
        values.push([`${desk.pathOf(control.id)}/value`, Number(value.toFixed(4))]);
    }
    if (values.length) desk.setNumbers(values, 'Follow', this.gesture);
  }

  /** Record what arrives while the shot plays: it becomes keys of all controls that are moved. */
  async record(desk: Desk): Promise<void> {
    if (this.take) return this.stop(desk);
    const controls = desk.shot!.controls.filter((one) => one.comes_from.address).map((one) => one.id);
    const path = { shot_id: desk.id };
    try {
      const body = { at_s: desk.player.now, controls };
      const { id } = await got(api.POST('/api/shots/{shot_id}/takes', { params: { path }, body }));
      this.take = id;
      desk.player.play(true);
    } catch (error) {
      notices.trouble(error);
    }
  }

  /** End the take. */
  async stop(desk: Desk): Promise<void> {
    const take = this.take;
    if (!take) return;
    this.take = null;
    desk.player.play(false);
    const path = { shot_id: desk.id, take_id: take };
    try {
      const found = await got(api.DELETE('/api/shots/{shot_id}/takes/{take_id}', { params: { path } }));
      await desk.reload();
      notices.say(`Imported: ${found.taken.join('; ')}.`);
    } catch (error) {
      notices.trouble(error);
    }
  }
}

export const arriving = new Arriving();
