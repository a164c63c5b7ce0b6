import type { Desk } from '../state/desk.svelte';
import { lists, type ThingKind, type View } from '../state/scene_items';
import { place } from '../state/place.svelte';
import { copyPlace, pastePlace } from '../state/places';
import { panelLayout } from '../state/panel_layout.svelte';
import { specs } from '../state/specs.svelte';
import { isOff, switchAll } from '../state/switches';
import { theme } from '../state/theme.svelte';

export type Panel = 'versions' | 'plate' | 'library' | 'deliver' | 'keys' | 'finder';

export interface Command {
  group: string;
  name: string;
  key?: string;
  act: () => void;
}

const plain = ['zone', 'marker', 'light', 'matte', 'group', 'control'];

/** Things that can be added to the cast, and their names. */
const kinds = (): [string, string][] => [
  ...specs.forces.map((one): [string, string] => [one.kind, one.title.toLowerCase()]),
  ...plain.map((kind): [string, string] => [kind, kind]),
];

/** Everything that can be done on the shot screen, with its key. The key sheet and the finder both read this. */
export function commandsOf(desk: Desk, open: (panel: Panel) => void): Command[] {
  const look = (view: View) => (): void => desk.player.show(view);
  const around = (by: number) => (): void => {
    const shot = desk.shot!;
    const ids = [
      { kind: 'shot' as const },
      ...(shot.plate ? [{ kind: 'plate' as const }] : []),
      ...lists.flatMap((list) =>
        shot[list].map((thing) => ({ kind: list.slice(0, -1) as ThingKind, id: thing.id })),
      ),
    ];
    const same = (a: object, b: object): boolean => JSON.stringify(a) === JSON.stringify(b);
    const at = ids.findIndex((one) => same(one, desk.selection));
    desk.selection = ids[(at + by + ids.length) % ids.length]!;
  };
  const onOff = (): void => {
    const thing = desk.thing;
    if (thing && 'on' in thing) desk.set(`${desk.path}/on`, !thing.on, thing.on ? 'Switch off' : 'Switch on');
  };
  const chosenId = (): string | null => desk.thing?.id ?? null;
  return [
    { group: 'Time', name: 'Play or pause', key: ' ', act: () => desk.player.play() },
    {
      group: 'Time',
      name: 'Next frame',
      key: 'ArrowRight',
      act: () => desk.player.go(desk.player.frame + 1),
    },
    {
      group: 'Time',
      name: 'Previous frame',
      key: 'ArrowLeft',
      act: () => desk.player.go(desk.player.frame - 1),
    },
    {
      group: 'Time',
      name: '10 frames forward',
      key: 'shift+ArrowRight',
      act: () => desk.player.go(desk.player.frame + 10),
    },
    {
      group: 'Time',
      name: '10 frames back',
      key: 'shift+ArrowLeft',
      act: () => desk.player.go(desk.player.frame - 10),
    },
    { group: 'Time', name: 'First frame', key: 'Home', act: () => desk.player.go(desk.shot!.first_frame) },
    { group: 'Time', name: 'Last frame', key: 'End', act: () => desk.player.go(desk.shot!.last_frame) },
    {
      group: 'Time',
      name: 'Set range start',
      key: '[',
      act: () => (desk.player.range = [desk.player.frame, desk.player.range[1]]),
    },
    {
      group: 'Time',
      name: 'Set range end',
      key: ']',
      act: () => (desk.player.range = [desk.player.range[0], desk.player.frame]),
    },
    {
      group: 'Time',
      name: 'Reset range',
      key: '\\',
      act: () => (desk.player.range = [desk.shot!.first_frame, desk.shot!.last_frame]),
    },
    { group: 'Look', name: 'Over the plate', key: '1', act: look('plate') },
    { group: 'Look', name: 'Particles only', key: '2', act: look('particles') },
    { group: 'Look', name: 'Alpha', key: '3', act: look('alpha') },
    { group: 'Look', name: 'Overdraw: number of layers per pixel', key: '4', act: look('layers') },
    { group: 'Look', name: 'Plate only', key: '5', act: look('under') },
    {
      group: 'Look',
      name: 'Sweep: many values of the last number used, side by side',
      key: 's',
      act: () => (desk.tools.sweeping = desk.tools.number ?? `${desk.emitterPath}/rate`),
    },
    {
      group: 'Look',
      name: 'Variations: other looks of the selected emitter or group',
      key: 'x',
      act: () => {
        const chosen = desk.selection;
        desk.tools.varying = chosen.kind === 'group' ? chosen.id : (desk.emitter?.id ?? null);
      },
    },
    {
      group: 'Look',
      name: 'Comparison: wipe, side by side, off',
      key: 'w',
      act: () => {
        const held = desk.tools.comparing;
        if (held) desk.tools.comparing = held.how === 'wipe' ? { ...held, how: 'side' } : null;
        else open('versions');
      },
    },
    {
      group: 'Look',
      name: 'Orbit view or camera view',
      key: 'l',
      act: () => desk.player.lookFrom(desk.player.orbit ? null : { side: 32, above: 18, far: 1.5 }),
    },
    {
      group: 'Look',
      name: 'Guides on or off',
      key: 'g',
      act: () => (desk.tools.guidesOn = !desk.tools.guidesOn),
    },
    {
      group: 'Look',
      name: 'Picture only, or all panels',
      key: 'f',
      act: () => (panelLayout.alone = !panelLayout.alone),
    },
    { group: 'Look', name: 'Fold or unfold the cast', act: () => panelLayout.fold('left') },
    { group: 'Look', name: 'Fold or unfold the properties', act: () => panelLayout.fold('right') },
    { group: 'Look', name: 'Fold or unfold the desk', act: () => panelLayout.fold('low') },
    { group: 'Look', name: 'Full screen', key: 'shift+Enter', act: () => void panelLayout.fullScreen() },
    { group: 'Look', name: 'Change the theme', key: 't', act: () => theme.toggle() },
    {
      group: 'Look',
      name: 'Inspect particles; press one to follow it',
      key: 'i',
      act: () => (desk.tools.inspecting = !desk.tools.inspecting),
    },
    ...(['over life', 'keys', 'flutter', 'source', 'spread'] as const).map((kind) => ({
      group: 'Edit',
      name: `Every ${{ 'over life': 'over-life curve', spread: 'variation' }[kind as string] ?? kind}: off or on`,
      act: () => switchAll(desk, kind, isOff(desk.shot, kind)),
    })),
    { group: 'Edit', name: 'Copy position', act: () => copyPlace(desk) },
    { group: 'Edit', name: 'Paste position as a key', act: () => pastePlace(desk) },
    { group: 'Edit', name: 'Undo', key: 'mod+z', act: () => void desk.undo() },
    { group: 'Edit', name: 'Redo', key: 'mod+shift+z', act: () => void desk.redo() },
    { group: 'Cast', name: 'Select next', key: 'ArrowDown', act: around(1) },
    { group: 'Cast', name: 'Select previous', key: 'ArrowUp', act: around(-1) },
    { group: 'Cast', name: 'Add an emitter', key: 'e', act: () => void desk.add('emitter') },
    ...kinds().map(([kind, name]) => ({
      group: 'Cast',
      name: `Add: ${name}`,
      act: () => void desk.add(kind),
    })),
    { group: 'Cast', name: 'Switch on or off', key: 'o', act: onOff },
    {
      group: 'Cast',
      name: 'Solo on or off',
      key: 'a',
      act: () => {
        const thing = desk.chosenEmitter ?? desk.force;
        if (thing) desk.alone(thing.id);
      },
    },
    {
      group: 'Cast',
      name: 'Duplicate selection',
      key: 'c',
      act: () => {
        const id = chosenId();
        if (id) void desk.add('emitter', id);
      },
    },
    {
      group: 'Cast',
      name: 'Delete selection',
      key: 'Delete',
      act: () => {
        const id = chosenId();
        if (id) void desk.remove(id);
      },
    },
    { group: 'Go to', name: 'Versions', key: 'v', act: () => open('versions') },
    { group: 'Go to', name: 'Library of emitters', key: 'b', act: () => open('library') },
    { group: 'Go to', name: 'Select a plate', key: 'p', act: () => open('plate') },
    { group: 'Go to', name: 'Deliver', key: 'd', act: () => open('deliver') },
    {
      group: 'Go to',
      name: 'Stage in a new window',
      act: () => window.open(`/stage/${desk.id}`, `stage-${desk.id}`),
    },
    { group: 'Go to', name: 'All projects', act: () => place.go('/') },
    { group: 'Go to', name: 'Help', key: '?', act: () => open('keys') },
  ];
}

/** A key as printed on a keyboard. */
export function printed(key: string): string {
  const names: Record<string, string> = {
    ' ': 'Space',
    ArrowRight: '→',
    ArrowLeft: '←',
    ArrowUp: '↑',
    ArrowDown: '↓',
    mod: 'Ctrl',
    shift: 'Shift',
  };
  if (key === ' ') return names[' ']!;
  return key
    .split('+')
    .map((part) => names[part] ?? (part.length === 1 ? part.toUpperCase() : part))
    .join(' ');
}
