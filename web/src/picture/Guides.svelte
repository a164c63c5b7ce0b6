<script lang="ts">
  import type { Grip, Guides, NumberValue, Shown } from '../api/client';
  import { newGesture } from '../state/edits.svelte';
  import type { Desk } from '../state/desk.svelte';
  import { found } from '../state/scene_items';
  import { follow } from '../ui/drag';
  import { polyline, toShot, type Frame } from './geometry';
  import { gripped } from './grips';

  interface Props {
    desk: Desk;
    /** What is drawn in full, with its grips. */
    shown: Shown;
    /** The zone in which it acts. */
    zone: Shown | null;
    /** The fan, if an emitter is chosen. */
    guides: Guides | null;
    /** Flights that are drawn while a number is dragged. */
    flights: Guides['flights'];
    path: string;
    name: string;
    frame: Frame;
  }
  let { desk, shown, zone, guides, flights, path, name, frame }: Props = $props();

  const shot = $derived(desk.shot!);
  const pixel = $derived(shot.width / frame.width);
  const grips = $derived(desk.player.orbit ? [] : (shown.grips ?? []));
  const flying = $derived(desk.shaping);
  /** The front over the pieces that is under way, or comes next. */
  const front = $derived(
    guides?.pieces?.find((one) => one.last_s >= desk.player.now) ?? guides?.pieces?.at(-1) ?? null,
  );
  /** A handle is pointed at, or has the focus. */
  let pointed = $state(false);
  /** Fields cover the whole picture: they are faint until pointed at. */
  const field = $derived(pointed || flying ? 1 : 0.28);
  /** Outlines that are long against the picture would hide it: the longer they are, the thinner and fainter. */
  const dense = $derived.by(() => {
    let length = 0;
    for (const line of shown.lines ?? [])
      for (let i = 1; i < line.length; i++)
        length += Math.hypot(line[i]![0]! - line[i - 1]![0]!, line[i]![1]! - line[i - 1]![1]!);
    const round = 2 * (shot.width + shot.height);
    return pointed || flying ? 1 : Math.min(1, Math.max(0.16, (1.5 * round) / Math.max(length, 1)));
  });
  let svg = $state<SVGSVGElement>();

  function put(grip: Grip, at: { x: number; y: number }, from: Grip, gesture: string | null): void {
    const values = gripped(grip, at, from, desk, path).map(
      ([field, value]) => [`${path}/${field}`, value] as [string, number],
    );
    desk.setNumbers(values, grip.name, gesture);
  }

  function press(event: PointerEvent, grip: Grip): void {
    event.stopPropagation();
    const gesture = newGesture();
    const box = svg!.getBoundingClientRect();
    const start = gripped.start(grip, desk, path);
    follow(event, {
      move: (p) => {
        desk.shaping = true;
        const at = toShot({ ...frame, left: 0, top: 0 }, shot, p.clientX - box.left, p.clientY - box.top);
        put(start, at, start, gesture);
      },
      up: () => (desk.shaping = false),
    });
  }

  function nudge(event: KeyboardEvent, grip: Grip): void {
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
    if (!by) return;
    event.preventDefault();
    event.stopPropagation();
    const step = event.shiftKey ? 10 : 1;
    const start = gripped.start(grip, desk, path);
    put(start, { x: grip.at[0] + by[0]! * step, y: grip.at[1] + by[1]! * step }, start, null);
  }
</script>

<svg
  bind:this={svg}
  class="pointer-events-none absolute overflow-visible"
  style="left:{frame.left}px;top:{frame.top}px"
  width={frame.width}
  height={frame.height}
  viewBox="0 0 {shot.width} {shot.height}"
  aria-label="Guides of {name}"
>
  <g opacity={field} class="fading">
    {#each shown.arrows ?? [] as [x, y, dx, dy], i (i)}
      <line
        x1={x}
        y1={y}
        x2={x + dx}
        y2={y + dy}
        stroke="#eef4f4"
        stroke-opacity="0.5"
        stroke-width={1.1 * pixel}
      />
      <circle cx={x + dx} cy={y + dy} r={1.8 * pixel} fill="#eef4f4" fill-opacity="0.75" />
    {/each}
  </g>
  {#if guides}
    <polygon
      points={polyline(guides.fan)}
      fill="#5fe0b0"
      fill-opacity={flying ? 0.06 : 0.1}
      stroke="#5fe0b0"
      stroke-opacity="0.55"
      stroke-width={1.1 * pixel}
    />
  {/if}
  {#if flying}
    {#each flights as flight, i (i)}
      <polyline
        points={polyline(flight)}
        fill="none"
        stroke="#5fe0b0"
        stroke-opacity="0.45"
        stroke-width={1 * pixel}
      />
      {@const end = flight[flight.length - 1]!}
      <circle cx={end[0]} cy={end[1]} r={2 * pixel} fill="#5fe0b0" />
    {/each}
  {/if}
  {#each zone?.lines ?? [] as edge, i (i)}
    <polyline
      points={polyline(edge)}
      fill="none"
      stroke="#5fe0b0"
      stroke-opacity="0.7"
      stroke-width={1.1 * pixel}
    />
  {/each}
  {#each [...(shown.soft ?? []), ...(zone?.soft ?? [])] as soft, i (i)}
    <polyline
      points={polyline(soft)}
      fill="none"
      stroke="#5fe0b0"
      stroke-opacity="0.55"
      stroke-width={1.2 * pixel}
      stroke-dasharray="{3 * pixel} {4 * pixel}"
    />
  {/each}
  {#each shown.way ?? [] as way, i (i)}
    <polyline
      points={polyline(way)}
      fill="none"
      stroke="#ff7a66"
      stroke-width={1.5 * pixel}
      stroke-opacity="0.9"
    />
  {/each}
  <g opacity={dense} class="fading">
    {#each shown.lines ?? [] as outline, i (i)}
      <polyline
        points={polyline(outline)}
        fill="none"
        stroke="#5fe0b0"
        stroke-width={(dense < 0.6 ? 1 : 1.8) * pixel}
        stroke-linejoin="round"
      />
    {/each}
  </g>
  {#each front?.dots ?? [] as [x, y, share], i (i)}
    <circle cx={x} cy={y} r={(2.6 - 1.4 * share) * pixel} fill="#ff7a66" opacity={0.9 - 0.7 * share} />
  {/each}
  {#each grips as grip, i (i)}
    {#if grip.stem}
      <line
        x1={grip.stem[0]}
        y1={grip.stem[1]}
        x2={grip.at[0]}
        y2={grip.at[1]}
        stroke="#5fe0b0"
        stroke-width={1 * pixel}
        stroke-opacity="0.8"
      />
    {/if}
    <g
      role="slider"
      tabindex="0"
      aria-label="{grip.name}, handle"
      aria-valuenow={Math.round(grip.at[0])}
      aria-valuetext={grip.fields
        .map((field) => {
          const number = found(shot, `${path}/${field}`) as NumberValue | number | undefined;
          const value = typeof number === 'object' ? number.value : number;
          return value === undefined
            ? ''
            : `${field.split('/').pop()!.replaceAll('_', ' ')} ${Number(value.toFixed(2))}`;
        })
        .filter(Boolean)
        .join(', ')}
      class="grip pointer-events-auto cursor-grab outline-none"
      onpointerenter={() => (pointed = true)}
      onpointerleave={() => (pointed = false)}
      onfocus={() => (pointed = true)}
      onblur={() => (pointed = false)}
      onpointerdown={(e) => press(e, grip)}
      onkeydown={(e) => nudge(e, grip)}
    >
      <circle
        class="ring"
        cx={grip.at[0]}
        cy={grip.at[1]}
        r={12 * pixel}
        fill="transparent"
        stroke-width={2 * pixel}
      />
      {#if grip.kind === 'move' && !grip.stem}
        <rect
          x={grip.at[0] - 4 * pixel}
          y={grip.at[1] - 4 * pixel}
          width={8 * pixel}
          height={8 * pixel}
          transform="rotate(45 {grip.at[0]} {grip.at[1]})"
          fill="#0c1113"
          stroke={grip.fields[0]?.startsWith('path/') ? '#ff7a66' : '#5fe0b0'}
          stroke-width={1.6 * pixel}
        />
      {:else}
        <circle
          cx={grip.at[0]}
          cy={grip.at[1]}
          r={(grip.stem ? 3.2 : 4.5) * pixel}
          fill="#0c1113"
          stroke="#5fe0b0"
          stroke-width={1.6 * pixel}
        />
      {/if}
    </g>
  {/each}
</svg>

<style>
  .fading {
    transition: opacity 120ms;
  }
  .grip:focus-visible .ring {
    stroke: #fff;
  }
</style>
