import type { NumberValue, Thing } from '../api/client';
import { withKey } from '../timeline/keys';
import type { Desk } from './desk.svelte';
import { notices } from './notices.svelte';

const fields = ['across', 'up', 'depth', 'turn', 'scale'] as const;

/** Copy the whole place of the selected thing at the playhead. */
export function copyPlace(desk: Desk): void {
  const thing = desk.thing as Record<string, unknown> | null;
  if (!thing || !('across' in thing)) return;
  const found: Record<string, number> = {};
  for (const field of fields) {
    const number = thing[field] as NumberValue;
    found[field] = Number(desk.valueNow(`${desk.path}/${field}`, { ...number, flutter: null }).toFixed(4));
  }
  desk.tools.placeCopied = found;
  notices.say(`Copied the position of ${(desk.thing as Thing).name} at frame ${desk.player.frame}.`);
}

/** Put the copied place on the chosen thing, as one key of each of its axes at the playhead. */
export function pastePlace(desk: Desk): void {
  const thing = desk.thing as Record<string, unknown> | null;
  const copied = desk.tools.placeCopied;
  if (!thing || !copied || !('across' in thing)) return;
  const changes = fields.map((field) => ({
    op: 'replace' as const,
    path: `${desk.path}/${field}/keys`,
    value: withKey(
      (thing[field] as NumberValue).keys,
      desk.player.now,
      copied[field]!,
      0.5 / desk.player.fps,
    ),
  }));
  desk.change(changes, 'Paste position');
}
