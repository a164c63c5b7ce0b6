<script lang="ts">
  import type { Guides, NumberValue } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { found } from '../state/scene_items';
  import { shown } from '../ui/arithmetic';
  import CurveLane from './CurveLane.svelte';
  import Portrait from './Portrait.svelte';
  import RampLane from './RampLane.svelte';

  let { desk }: { desk: Desk } = $props();
  const emitter = $derived(desk.emitter);
  const guides = $derived(desk.guides);
  let opened = $state<Record<string, boolean>>({});
  const looks = ['size', 'opacity', 'brightness'];
  let probe = $state<number | null>(null);
  let width = $state(0);
  const labelWidth = 142;
  const margin = 10;
  const life = $derived(emitter && emitter.lifespan.value > 0 ? emitter.lifespan.value : null);
  const marks = [0.2, 0.4, 0.6, 0.8];

  function hover(event: PointerEvent): void {
    const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
    const age = (event.clientX - box.left - labelWidth) / Math.max(1, width - labelWidth - 16);
    probe = age >= 0 && age <= 1 ? age : null;
  }
</script>

{#snippet one(lane: Guides['lanes'][number])}
  {@const key = `${lane.thing} ${lane.field}`}
  {@const path = `${desk.pathOf(lane.thing)}/${lane.field}`}
  {@const number = found(desk.shot, path) as NumberValue | undefined}
  {#if number}
    {@const open = opened[key] ?? (looks.includes(lane.field) || number.over_life !== null)}
    <CurveLane
      {desk}
      {lane}
      {labelWidth}
      {path}
      {number}
      {open}
      world={lane.field === 'strength'}
      ontoggle={() => (opened[key] = !open)}
    />
  {/if}
{/snippet}

{#if emitter && guides && life === null && !emitter.lifespan.keys.length && !emitter.lifespan.source}
  <p class="m-3 rounded-md border border-line-strong px-3 py-2 text-soft" data-endless>
    These particles never die, so their age has no per cent: each keeps the values of its birth.
    <button
      class="button ml-2 h-6! px-2! text-[11.5px]"
      onclick={() => desk.set(`${desk.emitterPath}/lifespan/value`, 3, 'Lifespan')}
      >Set lifespan to 3 s</button
    >
  </p>
{/if}
{#if emitter && guides}
  <!-- svelte-ignore a11y_no_static_element_interactions -->
  <div
    class="relative flex h-full flex-col"
    bind:clientWidth={width}
    onpointermove={hover}
    onpointerleave={() => (probe = null)}
  >
    <div
      class="relative h-[22px] shrink-0 text-[11px] leading-[22px] text-ice"
      style="margin-left:{labelWidth}px; margin-right:{2 * margin}px"
    >
      <span class="absolute left-0">birth</span>
      {#each marks as mark (mark)}
        <span class="absolute -translate-x-1/2" style="left:{mark * 100}%"
          >{mark * 100} %{#if life}&ensp;{shown(mark * life)} s{/if}</span
        >
      {/each}
      <span class="absolute right-0">death</span>
    </div>
    <div class="min-h-0 flex-1 overflow-x-hidden overflow-y-auto pb-2" style="padding-right:{2 * margin}px">
      <Portrait {desk} {labelWidth} />
      {#each guides.lanes as lane (`${lane.thing} ${lane.field}`)}
        {@render one(lane)}
        {#if lane.thing === emitter.id && lane.field === 'opacity'}<RampLane
            {desk}
            {guides}
            {labelWidth}
          />{/if}
      {/each}
    </div>
    {#if probe !== null}
      <div
        class="pointer-events-none absolute top-[20px] bottom-1 border-l border-ice/70"
        style="left:{labelWidth + probe * (width - labelWidth - 2 * margin)}px"
      >
        <span
          class="absolute -top-[19px] -translate-x-1/2 rounded bg-ice px-1 text-[10.5px] leading-[16px] font-semibold whitespace-nowrap text-ground"
          >{Math.round(probe * 100)} %{#if life}&ensp;{(probe * life).toFixed(2)} s{/if}</span
        >
      </div>
    {/if}
  </div>
{:else}
  <div class="grid h-full place-items-center px-10 text-center text-soft">
    <p>
      The desk shows the life of one emitter: birth on the left, death on the right,<br />and a lane for each
      value that changes between them. Add an emitter to the cast.
    </p>
  </div>
{/if}
