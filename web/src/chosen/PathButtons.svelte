<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import { found } from '../state/things';

  /** path: JSON pointer of the points of a Bézier path. */
  let { desk, path, closed }: { desk: Desk; path: string; closed: boolean } = $props();
  type Point = { x: number; y: number; z: number; arrive: [number, number]; leave: [number, number] };
  const points = $derived(found(desk.shot, path) as Point[]);
  const straight = $derived(points.every((p) => !p.arrive[0] && !p.arrive[1] && !p.leave[0] && !p.leave[1]));

  function longer(): void {
    const [a, b] = [points[points.length - 2]!, points[points.length - 1]!];
    const made = { x: 2 * b.x - a.x, y: b.y + (b.y - a.y) / 2, z: b.z, arrive: b.arrive, leave: [0, 0] };
    const leave = [-b.arrive[0], -b.arrive[1]];
    desk.set(path, [...points.slice(0, -1), { ...b, leave }, made], 'Path: point more');
  }

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
    desk.set(path, bent, straight ? 'Path: round' : 'Path: corners');
  }
</script>

<div class="flex flex-wrap gap-1.5 py-1.5">
  <button class="button h-6! px-2! text-[11.5px]" onclick={longer}>Point more</button>
  {#if points.length > 2}
    <button
      class="button h-6! px-2! text-[11.5px]"
      onclick={() => desk.set(path, points.slice(0, -1), 'Path: point less')}>Point less</button
    >
  {/if}
  <button class="button h-6! px-2! text-[11.5px]" onclick={round}
    >{straight ? 'Make it round' : 'Make corners'}</button
  >
</div>
