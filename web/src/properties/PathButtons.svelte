<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import { found } from '../state/scene_items';
  import { arithmetic } from '../ui/arithmetic';
  import Icon from '../ui/Icon.svelte';

  /** path: JSON pointer of the points of a Bézier path. */
  let { desk, path, closed }: { desk: Desk; path: string; closed: boolean } = $props();
  type Point = { x: number; y: number; z: number; arrive: [number, number]; leave: [number, number] };
  const points = $derived(found(desk.shot, path) as Point[]);
  const straight = $derived(points.every((p) => !p.arrive[0] && !p.arrive[1] && !p.leave[0] && !p.leave[1]));

  function longer(): void {
    const [a, b] = [points[points.length - 2]!, points[points.length - 1]!];
    const made = { x: 2 * b.x - a.x, y: b.y + (b.y - a.y) / 2, z: b.z, arrive: b.arrive, leave: [0, 0] };
    const leave = [-b.arrive[0], -b.arrive[1]];
    desk.set(path, [...points.slice(0, -1), { ...b, leave }, made], 'Path: add point');
  }

  /** A point in the middle of a piece, which keeps the path's shape (de Casteljau's division). */
  function insert(i: number): void {
    const a = points[i]!;
    const b = points[(i + 1) % points.length]!;
    const mid = (p: readonly number[], q: readonly number[]): [number, number] => [
      (p[0]! + q[0]!) / 2,
      (p[1]! + q[1]!) / 2,
    ];
    const [p0, p3] = [
      [a.x, a.y],
      [b.x, b.y],
    ];
    const p1 = [a.x + a.leave[0], a.y + a.leave[1]];
    const p2 = [b.x + b.arrive[0], b.y + b.arrive[1]];
    const [q0, q1, q2] = [mid(p0!, p1), mid(p1, p2), mid(p2, p3!)];
    const [r0, r1] = [mid(q0, q1), mid(q1, q2)];
    const m = mid(r0, r1);
    const off = (p: readonly number[], from: readonly number[]): [number, number] => [
      Number((p[0]! - from[0]!).toFixed(3)),
      Number((p[1]! - from[1]!).toFixed(3)),
    ];
    const made = {
      x: Number(m[0].toFixed(3)),
      y: Number(m[1].toFixed(3)),
      z: (a.z + b.z) / 2,
      arrive: off(r0, m),
      leave: off(r1, m),
    };
    const next = points.map((p) => ({ ...p }));
    const flat = !a.leave[0] && !a.leave[1] && !b.arrive[0] && !b.arrive[1];
    if (!flat) {
      next[i] = { ...next[i]!, leave: off(q0, p0!) };
      next[(i + 1) % points.length] = { ...next[(i + 1) % points.length]!, arrive: off(q2, p3!) };
    }
    next.splice(i + 1, 0, flat ? { ...made, arrive: [0, 0], leave: [0, 0] } : made);
    desk.set(path, next, 'Path: insert a point');
  }

  function exact(i: number, axis: 'x' | 'y' | 'z', text: string): void {
    const value = arithmetic(text);
    if (value !== null) desk.set(`${path}/${i}/${axis}`, value, 'Path: set point');
  }
  let open = $state(false);

  /** Handles a third of the way, along the line between the neighbours; or none. */
  function round(): void {
    const at = (i: number): Point =>
      closed
        ? points[(i + points.length) % points.length]!
        : points[Math.min(points.length - 1, Math.max(0, i))]!;
    const bent = points.map((p, i) => {
      const [dx, dy] = [(at(i + 1).x - at(i - 1).x) / 6, (at(i + 1).y - at(i - 1).y) / 6];
      return { ...p, arrive: straight ? [-dx, -dy] : [0, 0], leave: straight ? [dx, dy] : [0, 0] };
    });
    desk.set(path, bent, straight ? 'Path: smooth' : 'Path: corners');
  }
</script>

<div class="flex flex-wrap gap-1.5 py-1.5">
  <button class="button h-6! px-2! text-[11.5px]" onclick={longer}>Add point</button>
  {#if points.length > 2}
    <button
      class="button h-6! px-2! text-[11.5px]"
      onclick={() => desk.set(path, points.slice(0, -1), 'Path: remove point')}>Remove point</button
    >
  {/if}
  <button class="button h-6! px-2! text-[11.5px]" onclick={round}>{straight ? 'Smooth' : 'Corners'}</button>
  <button class="button h-6! px-2! text-[11.5px]" aria-expanded={open} onclick={() => (open = !open)}
    >{points.length} points</button
  >
</div>
{#if open}
  <div class="pb-2" role="group" aria-label="Points of the path">
    <div class="grid grid-cols-[18px_repeat(3,minmax(0,1fr))_48px] text-[11px] text-soft">
      <span></span><span class="text-right">x</span><span class="text-right">y</span><span class="text-right"
        >depth</span
      ><span></span>
    </div>
    {#each points as point, i (i)}
      <div class="grid h-[26px] grid-cols-[18px_repeat(3,minmax(0,1fr))_48px] items-center gap-x-1">
        <span class="text-soft">{i + 1}</span>
        {#each ['x', 'y', 'z'] as const as axis (axis)}
          <input
            class="w-full rounded bg-well px-1 text-right"
            aria-label="Point {i + 1}, {axis === 'z' ? 'depth' : axis}"
            value={Number(point[axis].toFixed(2))}
            onchange={(e) => exact(i, axis, e.currentTarget.value)}
            onkeydown={(e) => {
              e.stopPropagation();
              if (e.key === 'Enter') e.currentTarget.blur();
            }}
          />
        {/each}
        <span class="flex">
          {#if closed || i < points.length - 1}
            <button
              class="quiet size-6! min-w-6!"
              aria-label="Insert a point after {i + 1}"
              title="Insert a point after it; the path keeps its shape"
              onclick={() => insert(i)}><Icon name="plus" size={11} /></button
            >
          {/if}
          {#if points.length > (closed ? 3 : 2)}
            <button
              class="quiet size-6! min-w-6!"
              aria-label="Remove point {i + 1}"
              onclick={() =>
                desk.set(
                  path,
                  points.filter((_, j) => j !== i),
                  'Path: remove a point',
                )}><Icon name="close" size={11} /></button
            >
          {/if}
        </span>
      </div>
    {/each}
  </div>
{/if}
