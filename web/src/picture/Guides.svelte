<script lang="ts">
  import type { Emitter, Guides } from '../api/client';
  import { newGesture, type Desk } from '../state/desk.svelte';
  import { polyline, toShot, type Frame } from './geometry';

  interface Props {
    desk: Desk;
    guides: Guides;
    emitter: Emitter;
    frame: Frame;
  }
  let { desk, guides, emitter, frame }: Props = $props();

  const shot = $derived(desk.shot!);
  const pixel = $derived(shot.width / frame.width);
  const centre = $derived(guides.centre);
  const middle = $derived(guides.fan[1 + Math.floor((guides.fan.length - 2) / 2)] ?? centre);
  const edge = $derived(guides.fan[1] ?? centre);
  const flying = $derived(desk.shaping);
  const sizeHandle = $derived.by(() => {
    const shape = emitter.shape;
    if (shape.kind === 'point') return null;
    const at = shape.kind === 'disc' ? guides.outline[0] : guides.outline[shape.kind === 'line' ? 1 : 2];
    return at ?? null;
  });
  let svg = $state<SVGSVGElement>();

  type Grip = 'place' | 'fan' | 'spread' | 'size';
  const names: Record<Grip, string> = {
    place: 'Place',
    fan: 'Direction and speed',
    spread: 'Spread',
    size: 'Size of the source',
  };

  function round(value: number, to = 1): number {
    return Math.round(value / to) * to;
  }

  function changesFor(grip: Grip, at: { x: number; y: number }): [string, number][] {
    const [dx, dy] = [at.x - centre[0], centre[1] - at.y];
    const angle = (Math.atan2(dy, dx) * 180) / Math.PI;
    if (grip === 'place') {
      return [
        ['across', round(at.x - shot.width / 2)],
        ['up', round(shot.height / 2 - at.y)],
      ];
    }
    if (grip === 'fan') {
      return [
        ['direction', round((angle + 360) % 360)],
        ['speed', round(Math.hypot(dx, dy))],
      ];
    }
    if (grip === 'spread') {
      let off = Math.abs(((angle - emitter.direction.value) % 360) + 360) % 360;
      if (off > 180) off = 360 - off;
      return [['spread', Math.min(360, round(off * 2))]];
    }
    const shape = emitter.shape;
    if (shape.kind === 'disc') return [['shape/radius', round(Math.hypot(dx, dy))]];
    if (shape.kind === 'line') {
      return [
        ['shape/length', round(Math.hypot(dx, dy) * 2)],
        ['shape/angle', round(angle)],
      ];
    }
    if (shape.kind === 'rectangle') {
      const turn = (shape.angle.value * Math.PI) / 180;
      const along = dx * Math.cos(turn) + dy * Math.sin(turn);
      const across = -dx * Math.sin(turn) + dy * Math.cos(turn);
      return [
        ['shape/width', round(Math.abs(along) * 2)],
        ['shape/height', round(Math.abs(across) * 2)],
      ];
    }
    return [];
  }

  function press(event: PointerEvent, grip: Grip): void {
    event.stopPropagation();
    const target = event.currentTarget as Element;
    target.setPointerCapture(event.pointerId);
    const gesture = newGesture();
    const box = svg!.getBoundingClientRect();
    const move = (e: Event): void => {
      const p = e as PointerEvent;
      desk.shaping = true;
      const at = toShot({ ...frame, left: 0, top: 0 }, shot, p.clientX - box.left, p.clientY - box.top);
      const changes = changesFor(grip, at).map(([field, value]) => ({
        op: 'replace' as const,
        path: `${desk.emitterPath}/${field}/value`,
        value,
      }));
      desk.change(changes, names[grip], gesture);
    };
    const up = (): void => {
      desk.shaping = false;
      target.removeEventListener('pointermove', move);
      target.removeEventListener('pointerup', up);
    };
    target.addEventListener('pointermove', move);
    target.addEventListener('pointerup', up);
  }

  function nudge(event: KeyboardEvent, grip: Grip, at: readonly [number, number]): void {
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
    if (!by) return;
    event.preventDefault();
    event.stopPropagation();
    const step = event.shiftKey ? 10 : 1;
    const to = { x: at[0] + by[0]! * step, y: at[1] + by[1]! * step };
    const changes = changesFor(grip, to).map(([field, value]) => ({
      op: 'replace' as const,
      path: `${desk.emitterPath}/${field}/value`,
      value,
    }));
    desk.change(changes, names[grip]);
  }
</script>

{#snippet handle(grip: Grip, at: readonly [number, number], square = false)}
  <g
    role="slider"
    tabindex="0"
    aria-label={names[grip]}
    aria-valuenow={0}
    class="pointer-events-auto cursor-grab outline-none"
    onpointerdown={(e) => press(e, grip)}
    onkeydown={(e) => nudge(e, grip, at)}
  >
    <circle cx={at[0]} cy={at[1]} r={11 * pixel} fill="transparent" />
    {#if square}
      <rect
        x={at[0] - 4 * pixel}
        y={at[1] - 4 * pixel}
        width={8 * pixel}
        height={8 * pixel}
        transform="rotate(45 {at[0]} {at[1]})"
        fill="#0c1113"
        stroke="#5fe0b0"
        stroke-width={1.6 * pixel}
      />
    {:else}
      <circle
        cx={at[0]}
        cy={at[1]}
        r={4.5 * pixel}
        fill="#0c1113"
        stroke="#5fe0b0"
        stroke-width={1.6 * pixel}
      />
    {/if}
  </g>
{/snippet}

<svg
  bind:this={svg}
  class="pointer-events-none absolute overflow-visible"
  style="left:{frame.left}px;top:{frame.top}px"
  width={frame.width}
  height={frame.height}
  viewBox="0 0 {shot.width} {shot.height}"
  aria-label="Guides of {emitter.name}"
>
  <polygon
    points={polyline(guides.fan)}
    fill="#5fe0b0"
    fill-opacity={flying ? 0.06 : 0.1}
    stroke="#5fe0b0"
    stroke-opacity="0.55"
    stroke-width={1.1 * pixel}
  />
  {#if flying}
    {#each guides.flights as flight, i (i)}
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
  <polyline
    points={polyline(guides.outline)}
    fill="none"
    stroke="#5fe0b0"
    stroke-width={1.8 * pixel}
    stroke-linejoin="round"
  />
  {#if sizeHandle}{@render handle('size', sizeHandle, true)}{/if}
  {@render handle('spread', edge)}
  {@render handle('fan', middle)}
  {@render handle('place', centre, true)}
</svg>
