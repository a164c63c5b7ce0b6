import { SvelteMap } from 'svelte/reactivity';
import { api, got, type ControlThing, type Take, type TakeCard, type TakeCurve } from '../api/client';
import type { Desk } from './desk.svelte';
import { notices } from './notices.svelte';

/** The contents of a shot's takes, and the lanes of its controls, loaded when needed. */
class Takes {
  private readonly cards = new SvelteMap<string, TakeCard>();
  private readonly lanes = new SvelteMap<string, TakeCurve | null>();
  private readonly asked = new Set<string>();

  /** What is in a take; null until it is known. */
  cardOf(take: Take): TakeCard | null {
    return this.cards.get(take.id) ?? null;
  }

  /** Load the contents of a take. */
  open(desk: Desk, take: Take): void {
    if (this.asked.has(take.id)) return;
    this.asked.add(take.id);
    const params = { path: { shot_id: desk.id, take_id: take.id } };
    got(api.GET('/api/shots/{shot_id}/takes/{take_id}', { params })).then(
      (card) => this.cards.set(take.id, card),
      (error) => notices.trouble(error),
    );
  }

  /** The take that a control plays, else the newest: what its keys are held against. */
  private static of(desk: Desk, control: ControlThing): Take | null {
    const takes = desk.shot?.takes ?? [];
    return takes.find((one) => one.id === control.take) ?? takes[takes.length - 1] ?? null;
  }

  private static keyOf(take: Take, control: ControlThing): string {
    const { keys, value } = control.value;
    return JSON.stringify([take.id, take.at_s, take.from_s, take.to_s, control.id, keys, value]);
  }

  /** The lane of a control in its take; null where there is none, or until it is loaded. */
  laneOf(desk: Desk, control: ControlThing): TakeCurve | null {
    const take = Takes.of(desk, control);
    return take ? (this.lanes.get(Takes.keyOf(take, control)) ?? null) : null;
  }

  /** Know what a control was in its take. */
  look(desk: Desk, control: ControlThing): void {
    const take = Takes.of(desk, control);
    const key = take && Takes.keyOf(take, control);
    if (!take || !key || this.asked.has(key)) return;
    this.asked.add(key);
    const path = { shot_id: desk.id, take_id: take.id, control_id: control.id };
    // One that is not in the take has none.
    got(api.GET('/api/shots/{shot_id}/takes/{take_id}/lanes/{control_id}', { params: { path } })).then(
      (lane) => this.lanes.set(key, lane),
      () => this.lanes.set(key, null),
    );
  }
}

export const takes = new Takes();
