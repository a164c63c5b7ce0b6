<script lang="ts">
  import type { Curve, Guides, NumberValue } from '../api/client';
  import { newGesture } from '../state/edits.svelte';
  import type { Desk } from '../state/desk.svelte';
  import { specs } from '../state/specs.svelte';
  import { arithmetic, shown } from '../ui/arithmetic';
  import { follow } from '../ui/drag';
  import Icon from '../ui/Icon.svelte';
  import PresetMenu from './PresetMenu.svelte';
  import { ageAt, band, line, moved, valueAt, withPoint, without, x, y, type Plot } from './lane';

  interface Props {
    desk: Desk;
    lane: Guides['lanes'][number];
    /** JSON pointer of the number, and the number. */
    path: string;
    number: NumberValue;
    /** Of a force that reaches the emitter, not of the emitter itself. */
    world: boolean;
    labelWidth: number;
    open: boolean;
    ontoggle: () => void;
  }
  let { desk, lane, path, number, world, labelWidth, open, ontoggle }: Props = $props();

  const name = $derived(lane.name);
  /** Which of two curves is drawn on. */
  let second = $state(false);
  const part = $derived(second && number.over_life_to ? 'over_life_to' : 'over_life');
  const curve = $derived(number[part]);
  const title = $derived(name[0]!.toUpperCase() + name.slice(1));
  const height = $derived(open ? (lane.field === 'size' ? 58 : 46) : 22);
  let width = $state(0);
  let chosen = $state<number | null>(null);
  let dragging = $state(false);
  let top = $state(1);
  $effect(() => {
    const highest = Math.max(
      1,
      ...lane.curve,
      ...(lane.to ?? []),
      ...(curve?.points.map((p) => p.value) ?? []),
    );
    if (!dragging) top = highest;
  });
  const plot = $derived<Plot>({ width, height, top });
  const unit = $derived(Math.max(1e-9, Math.abs(lane.base)));
  const range = $derived.by(() => {
    const values = lane.curve.map((c) => c * lane.base);
    const [first, last] = [values[0] ?? 0, values[values.length - 1] ?? 0];
    // What is highest or lowest on the way is said too, where it is neither at birth nor at death.
    const far = Math.max(1e-9, ...values.map(Math.abs)) * 0.03;
    const high = Math.max(...values);
    const low = Math.min(...values);
    const between =
      high > Math.max(first, last) + far ? [high] : low < Math.min(first, last) - far ? [low] : [];
    return `${[first, ...between, last].map(shown).join(' → ')} ${lane.unit}`;
  });
  const point = $derived(chosen !== null ? (curve?.points[chosen] ?? null) : null);

  function put(next: Curve | null, label: string, gesture: string | null = null): void {
    // Without its first curve a number has no second one.
    if (next === null && part === 'over_life' && number.over_life_to) {
      desk.change(
        [
          { op: 'replace', path: `${path}/over_life_to`, value: null },
          { op: 'replace', path: `${path}/over_life`, value: null },
        ],
        label,
        gesture,
      );
    } else desk.set(`${path}/${part}`, next, label, gesture);
  }

  function at(event: MouseEvent): { age: number; value: number } {
    const box = svg!.getBoundingClientRect();
    return {
      age: Number(ageAt(plot, event.clientX - box.left).toFixed(3)),
      value: Number(valueAt(plot, event.clientY - box.top).toFixed(3)),
    };
  }
  let svg = $state<SVGSVGElement>();

  function add(event: MouseEvent): void {
    const { age, value } = at(event);
    const start: Curve = curve ?? {
      points: [
        { at: 0, value: 1, joint: 'smooth', ease: null },
        { at: 1, value: 1, joint: 'smooth', ease: null },
      ],
    };
    const made = withPoint(start, { at: age, value, joint: 'smooth', ease: null });
    chosen = made.index;
    put(made.curve, `${title}: add a point`);
  }

  function press(event: PointerEvent, index: number): void {
    event.stopPropagation();
    chosen = index;
    const gesture = newGesture();
    follow(event, {
      move: (e) => {
        dragging = true;
        const to = at(e);
        put(moved(curve!, index, to.age, Math.min(to.value, top)), `${title}: move a point`, gesture);
      },
      up: () => (dragging = false),
    });
  }

  function keys(event: KeyboardEvent, index: number): void {
    const p = curve!.points[index]!;
    const step = event.shiftKey ? 0.1 : 0.01;
    const by = { ArrowLeft: [-step, 0], ArrowRight: [step, 0], ArrowUp: [0, step], ArrowDown: [0, -step] }[
      event.key
    ];
    if (by) put(moved(curve!, index, p.at + by[0]!, p.value + by[1]!), `${title}: move a point`);
    else if (event.key === 'Delete' || event.key === 'Backspace') remove(index);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function remove(index: number): void {
    put(without(curve!, index), `${title}: remove a point`);
    chosen = null;
  }

  function exact(part: 'at' | 'value', text: string): void {
    const value = arithmetic(text);
    if (value === null || chosen === null) return;
    const p = curve!.points[chosen]!;
    const next =
      part === 'at' ? moved(curve!, chosen, value / 100, p.value) : moved(curve!, chosen, p.at, value / unit);
    put(next, `${title}: set point`);
  }

  function joint(kind: 'smooth' | 'straight' | 'hold'): void {
    const points = curve!.points.map((p, i) => (i === chosen ? { ...p, joint: kind, ease: null } : p));
    put({ points }, `${title}: ${kind} joint`);
  }

  function ease(text: string): void {
    const four =
      text.trim() === ''
        ? null
        : text
            .split(/[\s,;]+/)
            .filter(Boolean)
            .map(Number);
    if (four && (four.length !== 4 || four.some((n) => !Number.isFinite(n)))) return;
    const points = curve!.points.map((p, i) =>
      i === chosen ? { ...p, ease: four as [number, number, number, number] | null } : p,
    );
    put({ points }, `${title}: interpolation to the next point`);
  }

  /** A point by keyboard: in the middle of the widest gap. */
  function addByKey(): void {
    const ages = [0, ...(curve?.points.map((p) => p.at) ?? []), 1];
    let best = 0;
    for (let i = 1; i < ages.length; i++)
      if (ages[i]! - ages[i - 1]! > ages[best + 1]! - ages[best]!) best = i - 1;
    const age = Number(((ages[best]! + ages[best + 1]!) / 2).toFixed(3));
    const start: Curve = curve ?? {
      points: [
        { at: 0, value: 1, joint: 'smooth', ease: null },
        { at: 1, value: 1, joint: 'smooth', ease: null },
      ],
    };
    const values = part === 'over_life_to' && lane.to ? lane.to : lane.curve;
    const value = values[Math.round(age * (values.length - 1))] ?? 1;
    const made = withPoint(start, { at: age, value: Number(value.toFixed(3)), joint: 'smooth', ease: null });
    chosen = made.index;
    put(made.curve, `${title}: add a point`);
  }

  const joints = [
    ['smooth', 'M2 12C8 12 8 4 14 4'],
    ['straight', 'M2 12 8 5l6 5'],
    ['hold', 'M2 12h6V4h6'],
  ] as const;
</script>

<div class="flex border-b border-line" style="height:{height}px" data-lane={world ? name : lane.field}>
  <div class="shrink-0 overflow-hidden pr-3 pl-3" style="width:{labelWidth}px">
    <div class="flex items-center">
      <button
        class="min-h-6 min-w-0 truncate font-semibold"
        class:line-through={number.off.includes('over life') || number.off.includes('all')}
        class:text-soft={!open}
        aria-expanded={open}
        title={world ? `Strength of ${name} over life` : title}
        onclick={ontoggle}
      >
        {title}
      </button>
      {#if open && number.over_life_to}
        <button
          class="ml-1 rounded border border-ice px-1 text-[10px] leading-[14px] text-ice"
          title="Each particle follows its own curve between the two. Draw the second curve here."
          onclick={() => {
            second = !second;
            chosen = null;
          }}>{second ? '2' : '1'} of 2</button
        >
      {/if}
      {#if open}
        <button
          class="quiet size-6! min-w-6!"
          aria-label="{title}: add a point"
          title="Add a point"
          onclick={addByKey}><Icon name="plus" size={11} /></button
        >
      {/if}
      <PresetMenu
        of={name}
        presets={specs.presets.curves}
        columns={4}
        onchoose={(preset) => {
          put(preset.name === 'Level' ? null : preset.curve, `${title}: ${preset.name}`);
          chosen = null;
        }}
      >
        {#snippet picture(preset)}
          <svg width="66" height="34" aria-hidden="true">
            <polyline
              points={line({ width: 66, height: 34, top: 1 }, preset.picture)}
              fill="none"
              stroke="var(--ice)"
              stroke-width="1.6"
            />
          </svg>
        {/snippet}
      </PresetMenu>
    </div>
    {#if open}<div class="truncate text-[11px] text-soft" title="At birth → at death">{range}</div>{/if}
  </div>
  <div class="relative min-w-0 flex-1" bind:clientWidth={width}>
    <svg
      bind:this={svg}
      class="absolute inset-0 touch-none overflow-visible bg-well/60"
      {width}
      {height}
      aria-label="{title} over life"
      role="group"
      ondblclick={add}
      onpointerdown={() => (chosen = null)}
    >
      {#each [0.2, 0.4, 0.6, 0.8] as mark (mark)}
        <line x1={x(plot, mark)} x2={x(plot, mark)} y1="0" y2={height} stroke="var(--line)" />
      {/each}
      <svg {width} {height}>
        {#if (number.spread > 0 && lane.base === number.value) || lane.to}
          <polygon
            points={band(
              plot,
              lane.low.map((v) => v / unit),
              lane.high.map((v) => Math.min(v / unit, top * 1.6)),
            )}
            fill="var(--ice)"
            opacity="0.13"
          />
        {/if}
      </svg>
      {#if lane.to}
        <polyline
          points={line(plot, part === 'over_life' ? lane.to : lane.curve)}
          fill="none"
          stroke="var(--ice)"
          stroke-width="1.2"
          opacity="0.6"
        />
      {/if}
      <polyline
        points={line(plot, part === 'over_life_to' && lane.to ? lane.to : lane.curve)}
        fill="none"
        stroke="var(--ice)"
        stroke-width="1.8"
        stroke-dasharray={curve ? 'none' : '4 4'}
        opacity={curve ? 1 : 0.6}
      />
      {#if open}
        {#each curve?.points ?? [] as p, index (index)}
          <g
            role="slider"
            tabindex="0"
            aria-label="{title}, point {index + 1}"
            aria-valuenow={p.value}
            aria-valuetext="{shown(p.at * 100)} % of life: {shown(p.value * lane.base)} {lane.unit}"
            class="cursor-grab"
            onpointerdown={(e) => press(e, index)}
            ondblclick={(e) => e.stopPropagation()}
            onkeydown={(e) => keys(e, index)}
            onfocus={() => (chosen = index)}
          >
            <circle cx={x(plot, p.at)} cy={y(plot, p.value)} r="12" fill="transparent" />
            <circle
              cx={x(plot, p.at)}
              cy={y(plot, p.value)}
              r={index === chosen ? 5 : 4}
              fill={index === chosen ? 'var(--aurora)' : 'var(--ground)'}
              stroke={index === chosen ? 'var(--ground)' : 'var(--ice)'}
              stroke-width="1.7"
            />
          </g>
        {/each}
      {/if}
    </svg>
    {#if !curve && open}
      <span class="pointer-events-none absolute right-2 bottom-1 text-[11px] text-soft"
        >constant · double-click to draw</span
      >
    {/if}
    {#if point && open && !dragging}
      <div
        class="absolute z-10 flex items-center gap-1 rounded-md border border-line-strong bg-raised px-1.5 py-0.5 text-[11px] shadow-lg"
        style="top:{Math.max(2, height / 2 - 13)}px; {point.at < 0.55
          ? `left:${x(plot, point.at) + 14}px`
          : `right:${width - x(plot, point.at) + 14}px`}"
      >
        <input
          class="w-9 rounded bg-well px-1 text-right"
          aria-label="{title}: age of the point in percent"
          value={Number((point.at * 100).toFixed(2))}
          onchange={(e) => exact('at', e.currentTarget.value)}
          onkeydown={(e) => {
            e.stopPropagation();
            if (e.key === 'Enter') e.currentTarget.blur();
          }}
        /><span class="text-soft">%</span>
        <input
          class="w-12 rounded bg-well px-1 text-right"
          aria-label="{title}: value of the point"
          value={Number((point.value * lane.base).toFixed(4))}
          onchange={(e) => exact('value', e.currentTarget.value)}
          onkeydown={(e) => {
            e.stopPropagation();
            if (e.key === 'Enter') e.currentTarget.blur();
          }}
        /><span class="pr-1 text-soft">{lane.unit}</span>
        {#each joints as [kind, path] (kind)}
          <button
            class="rounded p-0.5 {point.joint === kind
              ? 'bg-aurora-ground text-aurora'
              : 'text-soft hover:text-word'}"
            aria-label="{kind} joint"
            aria-pressed={point.joint === kind}
            title="{kind} joint"
            onclick={() => joint(kind)}
          >
            <svg
              width="16"
              height="16"
              fill="none"
              stroke="currentColor"
              stroke-width="1.6"
              aria-hidden="true"><path d={path} /></svg
            >
          </button>
        {/each}
        <input
          class="w-[92px] rounded bg-well px-1"
          aria-label="{title}: exact interpolation to the next point, as cubic-bezier"
          title="Exact interpolation to the next point: x1, y1, x2, y2 as in CSS cubic-bezier; empty: by the type of the point"
          placeholder="x1 y1 x2 y2"
          value={point.ease?.join(' ') ?? ''}
          onchange={(e) => ease(e.currentTarget.value)}
          onkeydown={(e) => {
            e.stopPropagation();
            if (e.key === 'Enter') e.currentTarget.blur();
          }}
        />
        <button
          class="quiet size-6! min-w-6!"
          aria-label="Remove the point"
          title="Remove (Delete)"
          onclick={() => remove(chosen!)}><Icon name="close" size={11} /></button
        >
      </div>
    {/if}
  </div>
</div>
