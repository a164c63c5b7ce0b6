<script lang="ts">
  import type { Key, NumberValue } from '../api/client';
  import { newGesture } from '../state/edits.svelte';
  import type { Desk } from '../state/desk.svelte';
  import { found } from '../state/scene_items';
  import { arithmetic, shown } from '../ui/arithmetic';
  import Choice from '../fields/Choice.svelte';
  import { follow } from '../ui/drag';
  import Icon from '../ui/Icon.svelte';
  import { specs } from '../state/specs.svelte';
  import { takes } from '../state/takes.svelte';
  import { eases, moment, pasted, shifted, stretched, withKey } from './keys';

  interface Props {
    desk: Desk;
    path: string;
    width: number;
    height: number;
    /** Position of a frame across the strip. */
    at: (frame: number) => number;
  }
  let { desk, path, width, height, at }: Props = $props();
  const number = $derived(found(desk.shot, path) as NumberValue);
  const keys = $derived(number.keys);
  const values = $derived(desk.scene?.graphs.find((g) => g.path === path)?.values ?? []);
  let chosen = $state<Set<number>>(new Set());
  let factor = $state('');
  const only = $derived(chosen.size === 1 ? keys[[...chosen][0]!] : undefined);
  const shot = $derived(desk.shot!);
  const owner = $derived(path.split('/').slice(1, 3).join('/'));
  const name = $derived.by(() => {
    const thing = found(desk.shot, `/${owner}`) as { name?: string } | undefined;
    const field = specs.labelAt(desk.shot, path);
    return thing?.name ? `${thing.name}: ${field.toLowerCase()}` : field;
  });
  let held = $state.raw<[number, number] | null>(null);
  const range = $derived.by<[number, number]>(() => {
    if (held) return held;
    const every = [...values, ...keys.map((k) => k.value), ...(lane?.values ?? [])];
    let [low, high] = [Math.min(...every), Math.max(...every)];
    if (!(high > low)) [low, high] = [low - 1, high + 1];
    return [low, high];
  });
  const top = 26;
  const y = (value: number): number =>
    top + 12 + (1 - (value - range[0]) / (range[1] - range[0])) * (height - top - 24);
  const valueOf = (px: number): number =>
    range[0] + (1 - (px - top - 12) / (height - top - 24)) * (range[1] - range[0]);
  const xOf = (at_s: number): number => at(shot.first_frame + at_s * desk.player.fps);
  const line = $derived(
    values
      .map((v, i) => {
        const frame =
          shot.first_frame + (i / Math.max(1, values.length - 1)) * (shot.last_frame - shot.first_frame);
        return `${at(frame).toFixed(1)},${y(v).toFixed(1)}`;
      })
      .join(' '),
  );
  const near = $derived(0.5 / desk.player.fps);
  /** What was performed, beneath the keys that were made of it. */
  const control = $derived(shot.controls.find((_, i) => path === `/controls/${i}/value`) ?? null);
  $effect(() => {
    if (control) takes.look(desk, control);
  });
  const lane = $derived(control ? takes.laneOf(desk, control) : null);
  const performed = $derived(
    (lane?.values ?? [])
      .map((v, i) => `${xOf(lane!.begin_s + i * lane!.step_s).toFixed(1)},${y(v).toFixed(1)}`)
      .join(' '),
  );

  function put(next: Key[], what: string, gesture: string | null = null): void {
    desk.set(`${path}/keys`, next, `${name}: ${what}`, gesture);
  }

  function press(event: PointerEvent, index: number): void {
    event.stopPropagation();
    if (event.shiftKey) {
      const others = [...chosen].filter((i) => i !== index);
      chosen = new Set(chosen.has(index) ? others : [...others, index]);
      return;
    }
    if (!chosen.has(index)) chosen = new Set([index]);
    const gesture = newGesture();
    const [x0, y0, before, group] = [event.clientX, event.clientY, keys.map((k) => ({ ...k })), chosen];
    const perPx =
      (shot.last_frame - shot.first_frame) / Math.max(1, at(shot.last_frame) - at(shot.first_frame));
    held = range;
    const unit = (range[1] - range[0]) / (height - top - 24);
    follow(event, {
      move: (e) => {
        const frames = Math.round((e.clientX - x0) * perPx);
        const by = Number(((y0 - e.clientY) * unit).toPrecision(3));
        const moved = shifted(before, group, frames / desk.player.fps, by);
        put(moved, 'move keys', gesture);
        const times = [...group].map((i) => moment(before[i]!.at_s + frames / desk.player.fps));
        chosen = new Set(moved.flatMap((k, i) => (times.includes(k.at_s) ? [i] : [])));
      },
      up: () => (held = null),
    });
  }

  function add(event: MouseEvent): void {
    const box = (event.currentTarget as SVGElement).getBoundingClientRect();
    const share =
      (event.clientX - box.left - at(shot.first_frame)) / (at(shot.last_frame) - at(shot.first_frame));
    const frame = Math.round(share * (shot.last_frame - shot.first_frame));
    const value = Number(valueOf(event.clientY - box.top).toPrecision(4));
    const next = withKey(keys, frame / desk.player.fps, value, near);
    put(next, 'key');
    chosen = new Set([next.findIndex((k) => Math.abs(k.at_s - frame / desk.player.fps) < near)]);
  }

  function drop(): void {
    put(
      keys.filter((_, i) => !chosen.has(i)),
      'remove keys',
    );
    chosen = new Set();
  }

  function each(change: Partial<Key>, what: string): void {
    put(
      keys.map((key, i) => (chosen.has(i) ? { ...key, ...change } : key)),
      what,
    );
  }

  function exact(part: 'at_s' | 'value', text: string): void {
    const value = arithmetic(text);
    if (value === null || !only) return;
    const next = { ...only, [part]: part === 'at_s' ? moment(value / desk.player.fps) : value };
    put(
      keys.map((key) => (key === only ? next : key)).sort((a, b) => a.at_s - b.at_s),
      'exact key',
    );
  }

  function scale(): void {
    const by = arithmetic(factor);
    if (by !== null && by > 0) put(stretched(keys, chosen, by / 100), 'stretch');
    factor = '';
  }

  function onkeys(event: KeyboardEvent): void {
    const mod = event.ctrlKey || event.metaKey;
    if (event.key === 'Delete' || event.key === 'Backspace') drop();
    else if (mod && event.key === 'c') copy();
    else if (mod && event.key === 'v') paste();
    else if (mod && event.key === 'a') chosen = new Set(keys.map((_, i) => i));
    else if (/^Arrow/.test(event.key) && chosen.size) {
      const step = (range[1] - range[0]) / (event.shiftKey ? 10 : 100);
      const frames = { ArrowLeft: -1, ArrowRight: 1 }[event.key] ?? 0;
      const by = { ArrowUp: step, ArrowDown: -step }[event.key] ?? 0;
      put(shifted(keys, chosen, frames / desk.player.fps, by), 'move keys');
    } else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function copy(): void {
    desk.tools.copied = keys.filter((_, i) => chosen.size === 0 || chosen.has(i)).map((k) => ({ ...k }));
  }

  function paste(): void {
    if (desk.tools.copied.length) put(pasted(keys, desk.tools.copied, desk.player.now, near), 'paste keys');
  }
  const joints = ['smooth', 'straight', 'hold'] as const;
  const easeName = $derived(
    eases.find((e) => JSON.stringify(e.ease) === JSON.stringify(only?.ease ?? null))?.name ?? 'Its own',
  );
</script>

<svg
  class="absolute inset-0 touch-none"
  {width}
  {height}
  role="group"
  aria-label="Keys of {name}"
  ondblclick={add}
  onpointerdown={(e) => {
    if (e.target === e.currentTarget) chosen = new Set();
  }}
>
  <line x1={at(shot.first_frame)} x2={at(shot.last_frame)} y1={top} y2={top} stroke="var(--line)" />
  {#if performed}
    <polyline
      points={performed}
      fill="none"
      stroke="var(--ice)"
      stroke-width="4"
      opacity="0.35"
      pointer-events="none"
      data-performed={lane!.apart}
    />
  {/if}
  <polyline
    points={line}
    fill="none"
    stroke="var(--dawn)"
    stroke-width="1.6"
    opacity="0.9"
    pointer-events="none"
  />
  {#each keys as key, i (i)}
    <g
      role="slider"
      tabindex="0"
      aria-label="{name}, key {i + 1}"
      aria-valuenow={key.value}
      aria-valuetext="{shown(key.value)} at {shown(key.at_s)} s"
      class="cursor-grab outline-none"
      onpointerdown={(e) => press(e, i)}
      ondblclick={(e) => e.stopPropagation()}
      onkeydown={onkeys}
      onfocus={() => {
        if (!chosen.has(i)) chosen = new Set([i]);
      }}
    >
      <circle cx={xOf(key.at_s)} cy={y(key.value)} r="12" fill="transparent" />
      <rect
        x={xOf(key.at_s) - 4}
        y={y(key.value) - 4}
        width="8"
        height="8"
        transform="rotate(45 {xOf(key.at_s)} {y(key.value)})"
        fill={chosen.has(i) ? 'var(--aurora)' : key.joint === 'hold' ? 'var(--dawn)' : 'var(--ground)'}
        stroke={chosen.has(i) ? 'var(--ground)' : 'var(--dawn)'}
        stroke-width="1.6"
      />
    </g>
  {/each}
</svg>
<div
  class="absolute top-0 right-1 left-1 flex h-[25px] items-center gap-1 overflow-hidden text-[11.5px]"
  role="toolbar"
  aria-label="Keys"
>
  <span class="truncate pr-1 font-semibold text-dawn">{name}</span>
  <button
    class="key"
    onclick={() =>
      put(
        withKey(
          keys,
          desk.player.now,
          Number(desk.valueNow(path, { ...number, flutter: null }).toFixed(4)),
          near,
        ),
        'key',
      )}>Key at {desk.player.where}</button
  >
  <button class="key" title="Ctrl C" onclick={copy}>Copy {chosen.size || 'all'}</button>
  <button class="key" title="Ctrl V: at the playhead" disabled={!desk.tools.copied.length} onclick={paste}
    >Paste</button
  >
  {#if chosen.size}
    {#if only}
      <input
        class="w-11 rounded bg-well px-1 text-right"
        aria-label="Frame of the key"
        value={Number((only.at_s * desk.player.fps).toFixed(3))}
        onchange={(e) => exact('at_s', e.currentTarget.value)}
        onkeydown={(e) => e.stopPropagation()}
      />
      <input
        class="w-14 rounded bg-well px-1 text-right"
        aria-label="Value of the key"
        value={Number(only.value.toFixed(4))}
        onchange={(e) => exact('value', e.currentTarget.value)}
        onkeydown={(e) => e.stopPropagation()}
      />
    {:else}
      <input
        class="w-16 rounded bg-well px-1 text-right"
        aria-label="Stretch in time, percent"
        placeholder="stretch %"
        bind:value={factor}
        onchange={scale}
        onkeydown={(e) => e.stopPropagation()}
      />
    {/if}
    {#each joints as joint (joint)}
      <button
        class="key"
        aria-pressed={only?.joint === joint}
        class:text-aurora={only?.joint === joint}
        onclick={() => each({ joint, ease: null }, `${joint} keys`)}>{joint}</button
      >
    {/each}
    <Choice
      label="Interpolation to the next key"
      row={false}
      slim
      value={easeName}
      items={eases.map((e) => ({ value: e.name, label: e.name }))}
      onset={(v) => each({ ease: eases.find((e) => e.name === v)?.ease ?? null }, 'ease')}
    />
    <input
      class="w-[92px] rounded bg-well px-1"
      aria-label="Exact interpolation, as cubic-bezier"
      title="x1 y1 x2 y2 as in CSS cubic-bezier; empty: by the type of the key"
      placeholder="x1 y1 x2 y2"
      value={only?.ease?.join(' ') ?? ''}
      onchange={(e) => {
        const text = e.currentTarget.value.trim();
        const four = text === '' ? null : text.split(/[\s,;]+/).map(Number);
        if (four === null || (four.length === 4 && four.every(Number.isFinite)))
          each({ ease: four as [number, number, number, number] | null }, 'exact ease');
      }}
      onkeydown={(e) => e.stopPropagation()}
    />
    <button class="key" aria-label="Remove the selected keys" onclick={drop}>Remove</button>
  {/if}
  {#if lane && control && !control.take && keys.length}
    <span class="ml-auto shrink-0 pl-2 text-soft tabular-nums" title="Largest deviation from the take"
      >within {lane.apart.toFixed(3)} of the take</span
    >
  {/if}
  <button
    class="quiet ml-auto size-5! min-w-5!"
    aria-label="Close the graph"
    onclick={() => (desk.tools.graph = null)}><Icon name="close" size={11} /></button
  >
</div>

<style>
  .key {
    flex-shrink: 0;
    height: 24px;
    padding: 0 6px;
    border: 1px solid var(--line-strong);
    border-radius: 5px;
    white-space: nowrap;
  }
  .key:hover:not(:disabled) {
    background: var(--raised);
  }
  .key:disabled {
    opacity: 0.4;
  }
</style>
