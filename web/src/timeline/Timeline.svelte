<script lang="ts">
  import type { NumberValue } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { found } from '../state/scene_items';
  import { follow } from '../ui/drag';
  import Icon from '../ui/Icon.svelte';
  import { framesPerSecond } from '../ui/rates';
  import { specs } from '../state/specs.svelte';
  import KeyGraph from './KeyGraph.svelte';
  import { drivenLines } from './driven_lines';
  import Fronts from './Fronts.svelte';
  import Wave from './Wave.svelte';

  let { desk }: { desk: Desk } = $props();
  const shot = $derived(desk.shot!);
  const first = $derived(shot.first_frame);
  const last = $derived(shot.last_frame);
  const span = $derived(Math.max(1, last - first));
  let width = $state(0);
  const edge = 16;
  const at = $derived((frame: number) => edge + ((frame - first) / span) * Math.max(1, width - 2 * edge));
  const ticks = $derived.by(() => {
    const room = Math.max(1, (width - 2 * edge) / 62);
    const steps = [1, 2, 5, 10, 20, 25, 50, 100, 200, 250, 500, 1000, 2000, 5000, 10000, 50000, 100000];
    const step = steps.find((s) => span / s <= room) ?? 500000;
    const list: number[] = [];
    for (let f = Math.ceil(first / step) * step; f <= last; f += step) list.push(f);
    return { step, list };
  });
  const rate = $derived(framesPerSecond(shot.rate));
  const clock = $derived.by(() => {
    const seconds = (desk.player.frame - first) / rate;
    const whole = Math.floor(seconds + 1e-9);
    const frames = Math.round((seconds - whole) * rate);
    const pad = (n: number): string => String(n).padStart(2, '0');
    return `${pad(Math.floor(whole / 60))}:${pad(whole % 60)}:${pad(frames)}`;
  });
  let typing = $state(false);
  /** Go to a frame number, to seconds (`5.5s`), or to minutes, seconds and frames of shot time; whether it was one of them. */
  function goTo(text: string): boolean {
    const parts = text.trim().split(/[:;]/);
    if (parts.length > 1) {
      const numbers = parts.map(Number);
      if (numbers.some((n) => !Number.isFinite(n))) return false;
      const frames = numbers.pop()!;
      const seconds = numbers.reduce((sum, n) => sum * 60 + n, 0);
      desk.player.go(first + seconds * rate + frames);
      return true;
    }
    const seconds = /^(-?[\d.]+)\s*s$/.exec(text.trim());
    const frame = seconds ? first + Number(seconds[1]) * rate : Number(text);
    if (text.trim() === '' || !Number.isFinite(frame)) return false;
    desk.player.go(frame);
    return true;
  }
  const speed = $derived(desk.player.playing ? (desk.player.header?.fps ?? 0) : rate);
  const emitter = $derived(desk.emitter);
  /** How far particles that know of each other have been stepped: any frame up to there is soon there. */
  const reach = $derived(desk.player.header?.figures.reach ?? null);
  /** The numbers that sounds lead. */
  const driven = $derived(
    new Set(shot.sounds.flatMap((s) => drivenLines(shot, s.id).map((one) => one.path))),
  );
  /** The keyed numbers of the chosen thing, and the moments at which any of them has a key. */
  const keyed = $derived.by(() => {
    const path = desk.path || (desk.selection.kind === 'shot' ? '/camera' : '');
    const graphs = (desk.scene?.graphs ?? []).filter((g) => path && g.path.startsWith(`${path}/`));
    return graphs
      .map((g) => ({ path: g.path, keys: (found(desk.shot, g.path) as NumberValue | undefined)?.keys ?? [] }))
      .filter((g) => g.keys.length > 0 || driven.has(g.path));
  });
  const moments = $derived([...new Set(keyed.flatMap((k) => k.keys.map((key) => key.at_s)))]);
  /** How sure the tracked places of the chosen thing are. */
  const sure = $derived(
    desk.tools.followed && desk.thing?.id === desk.tools.followed.thing ? desk.tools.followed.sure : [],
  );
  const first_s = $derived((at_s: number) => first + at_s * rate);

  function frameAt(event: PointerEvent, box: DOMRect): number {
    return first + ((event.clientX - box.left - edge) / Math.max(1, width - 2 * edge)) * span;
  }

  function press(event: PointerEvent): void {
    const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
    desk.player.go(frameAt(event, box));
    follow(event, { move: (e) => desk.player.go(frameAt(e, box)) });
  }
</script>

<div class="flex h-[66px] items-stretch">
  <div class="flex w-[126px] items-center gap-2.5 pl-3">
    <button
      class="grid size-8 place-items-center rounded-full border-[1.5px] border-dawn text-dawn hover:bg-raised"
      aria-label={desk.player.playing ? 'Pause' : 'Play'}
      title="{desk.player.playing ? 'Pause' : 'Play'} (Space)"
      onclick={() => desk.player.play()}
    >
      <Icon name={desk.player.playing ? 'pause' : 'play'} size={14} filled={!desk.player.playing} />
    </button>
    <div class="leading-tight">
      {#if typing}
        <input
          class="w-[74px] rounded bg-well px-1 font-semibold text-dawn"
          aria-label="Frame or time"
          value={desk.player.frame}
          {@attach (node) => {
            (node as HTMLInputElement).focus();
            (node as HTMLInputElement).select();
          }}
          onblur={() => (typing = false)}
          onkeydown={(e) => {
            e.stopPropagation();
            if (e.key === 'Enter' && goTo(e.currentTarget.value)) typing = false;
            if (e.key === 'Escape') typing = false;
          }}
        />
      {:else}
        <button
          class="block min-h-6 font-semibold text-dawn"
          data-clock
          aria-label="Shot time {clock}; type a frame or a time"
          title="Shot time: minutes, seconds, frames. Press to type a frame, or a time such as 0:05:12 or 5.5s"
          onclick={() => (typing = true)}>{clock}</button
        >
      {/if}
      <div class="text-[11px] text-soft" data-speed>
        {speed.toFixed(1)} fps{#if desk.player.playing && (desk.player.header?.dropped ?? 0) > 0}<span
            class="text-amber"
            title="Frames dropped">&ensp;−{desk.player.header?.dropped}</span
          >{/if}
      </div>
    </div>
  </div>
  <div
    class="relative min-w-0 flex-1 cursor-pointer touch-none select-none"
    bind:clientWidth={width}
    role="slider"
    tabindex="0"
    aria-label="Frame"
    aria-valuemin={first}
    aria-valuemax={last}
    aria-valuenow={desk.player.frame}
    onpointerdown={press}
    onkeydown={(e) => {
      const by = { ArrowRight: 1, ArrowLeft: -1, PageUp: 10, PageDown: -10 }[e.key];
      if (by) {
        e.preventDefault();
        e.stopPropagation();
        desk.player.go(desk.player.frame + by * (e.shiftKey ? 10 : 1));
      }
    }}
  >
    <svg class="absolute inset-0 h-full w-full" aria-hidden="true">
      {#each ticks.list as frame (frame)}
        <text x={at(frame)} y="15" text-anchor="middle" class="fill-soft text-[11px]">{frame}</text>
        <line x1={at(frame)} x2={at(frame)} y1="20" y2="29" stroke="var(--line-strong)" />
      {/each}
      <rect x={at(first)} y="34" width={at(last) - at(first)} height="4" rx="2" fill="var(--well)" />
      {#each desk.player.computed as [from, to] (from)}
        <rect
          x={at(from) - 0.5}
          y="34"
          width={Math.max(2, at(Math.min(to + 1, last)) - at(from))}
          height="4"
          rx="1.5"
          fill="var(--soft)"
          opacity="0.75"
        />
      {/each}
      {#if reach !== null}
        <line
          data-reach={reach}
          x1={at(first)}
          x2={at(Math.min(reach + 1, last))}
          y1="40.5"
          y2="40.5"
          stroke="var(--aurora)"
          stroke-width="1.5"
          opacity="0.75"
        />
      {/if}
      {#if emitter?.pieces}
        <!-- Drawn by the ranges, which can be taken hold of. -->
      {:else if emitter}
        {@const begin = first + (emitter.start_s - emitter.pre_roll_s) * rate}
        {@const end = emitter.end_s === null ? last : first + emitter.end_s * rate}
        <line
          x1={at(Math.max(first, begin))}
          x2={at(Math.max(first, Math.min(last, end)))}
          y1="47"
          y2="47"
          stroke="var(--dawn)"
          stroke-width="1.6"
          opacity="0.8"
        />
        <circle cx={at(Math.max(first, Math.min(last, begin)))} cy="47" r="3.2" fill="var(--dawn)" />
        <circle
          cx={at(Math.max(first, Math.min(last, end)))}
          cy="47"
          r="3.2"
          fill={emitter.end_s === null ? 'var(--ground)' : 'var(--dawn)'}
          stroke="var(--dawn)"
        />
      {/if}
      {#each sure as s (s.frame)}
        <rect
          x={at(s.frame) - 1}
          y={66 - 2 - 8 * s.confidence}
          width={Math.max(2, at(s.frame + 1) - at(s.frame))}
          height={8 * s.confidence + 2}
          fill={s.confidence < 0.6 ? 'var(--amber)' : 'var(--soft)'}
          opacity="0.55"
        />
      {/each}
      {#each moments as at_s (at_s)}
        <rect
          x={at(first_s(at_s)) - 3.5}
          y="54"
          width="7"
          height="7"
          transform="rotate(45 {at(first_s(at_s))} 57.5)"
          fill="var(--dawn)"
        />
      {/each}
      {#if desk.player.range[0] > first}<rect
          x="0"
          y="22"
          width={at(desk.player.range[0])}
          height="44"
          fill="var(--ground)"
          opacity="0.7"
        />{/if}
      {#if desk.player.range[1] < last}<rect
          x={at(desk.player.range[1])}
          y="22"
          {width}
          height="44"
          fill="var(--ground)"
          opacity="0.7"
        />{/if}
    </svg>
    <!-- It moves with each picture: nothing else of the strip is drawn again for that. -->
    <span
      class="pointer-events-none absolute inset-y-0 left-0 w-0 will-change-transform"
      style="transform:translateX({at(desk.player.frame)}px)"
      data-playhead
    >
      <span class="absolute top-[19px] bottom-0 left-[-0.75px] w-[1.5px] bg-dawn"></span>
      <span
        class="absolute top-[2px] left-0 -translate-x-1/2 rounded-[5px] bg-dawn px-1.5 text-[11.5px] leading-[17px] font-semibold text-ground"
        >{desk.player.frame}</span
      >
    </span>
    {#if emitter?.pieces}<Fronts {desk} {at} {first_s} {rate} />{/if}
    {#if keyed.length}
      <span class="absolute top-[18px] right-3 flex gap-1 text-[10.5px] leading-[14px]">
        {#each keyed as k (k.path)}
          <button
            class="rounded px-1 {desk.tools.graph === k.path
              ? 'bg-dawn text-ground'
              : 'bg-ground/80 text-dawn hover:bg-raised'}"
            aria-label="Graph of {specs.labelAt(desk.shot, k.path)}"
            onpointerdown={(e) => e.stopPropagation()}
            onclick={() => (desk.tools.graph = desk.tools.graph === k.path ? null : k.path)}
            >{specs.labelAt(desk.shot, k.path)}</button
          >
        {/each}
      </span>
    {:else if emitter && !emitter.pieces}
      <span
        class="pointer-events-none absolute right-4 bottom-0 text-[10.5px] leading-[15px] text-soft"
        title="The line shows when this emitter emits">births of {emitter.name}</span
      >
    {/if}
  </div>
</div>
{#if shot.sounds.length}<Wave {desk} {width} {at} />{/if}
{#if desk.tools.graph}
  <div class="relative ml-[126px] h-[102px] border-t border-line bg-well/50">
    <KeyGraph {desk} path={desk.tools.graph} {width} height={102} {at} />
    <span
      class="pointer-events-none absolute top-[26px] bottom-0 left-0 border-l border-dawn/60 will-change-transform"
      style="transform:translateX({at(desk.player.frame)}px)"
    ></span>
  </div>
{/if}
