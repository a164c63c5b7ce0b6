<script lang="ts">
  import type { Curve } from '../api/client';
  import { ageAt, line, moved, valueAt, withPoint, without, x, y, type Plot } from '../desk/lane';
  import { newGesture } from '../state/edits.svelte';
  import { arithmetic, shown } from '../ui/arithmetic';
  import type { ControlProps } from '../fields/controls';
  import { follow } from '../ui/drag';

  /** A curve from encoded value to encoded value. */
  let { desk, field, owner, path: part }: ControlProps = $props();
  const path = $derived(`${part}/${field.name}`);
  const curve = $derived((owner as Record<string, Curve | null>)[field.name] ?? null);
  let width = $state(200);
  let chosen = $state<number | null>(null);
  let svg = $state<SVGSVGElement>();
  const plot = $derived<Plot>({ width, height: 104, top: 1 });
  const values = $derived(desk.scene?.tones.find((t) => t.path === path)?.values ?? [0, 1]);
  const plain: Curve = {
    points: [
      { at: 0, value: 0, joint: 'smooth', ease: null },
      { at: 1, value: 1, joint: 'smooth', ease: null },
    ],
  };
  const point = $derived(chosen === null ? null : (curve?.points[chosen] ?? null));

  function at(event: MouseEvent): { age: number; value: number } {
    const box = svg!.getBoundingClientRect();
    return {
      age: Number(ageAt(plot, event.clientX - box.left).toFixed(3)),
      value: Number(Math.min(1, valueAt(plot, event.clientY - box.top)).toFixed(3)),
    };
  }

  function add(event: MouseEvent): void {
    const { age, value } = at(event);
    const made = withPoint(curve ?? plain, { at: age, value, joint: 'smooth', ease: null });
    chosen = made.index;
    desk.set(path, made.curve, 'Curve: point');
  }

  function press(event: PointerEvent, index: number): void {
    event.stopPropagation();
    chosen = index;
    const gesture = newGesture();
    follow(event, {
      move: (e) => {
        const { age, value } = at(e);
        desk.set(path, moved(curve!, index, age, value), 'Curve: point', gesture);
      },
    });
  }

  function exact(part: 'at' | 'value', text: string): void {
    const value = arithmetic(text);
    if (value === null || !curve || !point || chosen === null) return;
    const next = { at: point.at, value: point.value, [part]: Math.min(1, Math.max(0, value / 100)) };
    desk.set(path, moved(curve, chosen, next.at, next.value), 'Curve: set point');
  }

  function remove(): void {
    if (!curve || chosen === null) return;
    desk.set(path, without(curve, chosen), 'Curve: remove point');
    chosen = null;
  }
</script>

<div class="flex items-center justify-between pt-1.5 text-[11.5px] text-soft">
  <span title={field.help}>{field.label} · double-click adds a point</span>
  {#if curve && field.optional}<button
      class="hover:text-word"
      onclick={() => desk.set(path, null, 'No curve')}>none</button
    >{/if}
</div>
<div class="mt-1 rounded border border-line bg-well" bind:clientWidth={width}>
  <!-- svelte-ignore a11y_no_static_element_interactions -->
  <svg
    bind:this={svg}
    {width}
    height="104"
    class="block touch-none"
    ondblclick={add}
    aria-label={field.label}
  >
    <line x1={x(plot, 0)} y1={y(plot, 0)} x2={x(plot, 1)} y2={y(plot, 1)} stroke="var(--line-strong)" />
    <polyline points={line(plot, values)} fill="none" stroke="var(--word)" stroke-width="1.6" />
    {#each curve?.points ?? [] as p, i (i)}
      <circle
        role="slider"
        tabindex="0"
        aria-label="Point at {Math.round(p.at * 100)} %"
        aria-valuenow={p.value}
        cx={x(plot, p.at)}
        cy={y(plot, p.value)}
        r="4.5"
        fill={chosen === i ? 'var(--aurora)' : 'var(--ground)'}
        stroke={chosen === i ? 'var(--aurora)' : 'var(--word)'}
        class="cursor-grab"
        onpointerdown={(e) => press(e, i)}
        onfocus={() => (chosen = i)}
        onkeydown={(e) => {
          if (e.key !== 'Delete' && e.key !== 'Backspace') return;
          e.stopPropagation();
          remove();
        }}
      />
    {/each}
  </svg>
</div>
{#if point}
  <div class="flex items-center gap-1.5 pt-1 text-[11.5px] text-soft">
    {#each ['at', 'value'] as const as part (part)}
      <label class="flex items-center gap-1"
        >{part === 'at' ? 'from' : 'to'}
        <input
          class="w-12 rounded bg-well px-1 text-right text-word"
          value={shown(point[part] * 100)}
          onchange={(e) => exact(part, e.currentTarget.value)}
          onkeydown={(e) => e.stopPropagation()}
        /> %</label
      >
    {/each}
    <button class="ml-auto hover:text-word" onclick={remove}>remove</button>
  </div>
{/if}
