<script lang="ts">
  import { get } from '../api/client';
  import type { Desk, View } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import FirstWords from './FirstWords.svelte';
  import { frameOf, toShot } from './geometry';
  import Guides from './Guides.svelte';

  let { desk }: { desk: Desk } = $props();
  const shot = $derived(desk.shot!);
  let stage = $state({ width: 0, height: 0 });
  let wordsRead = $state(false);
  let zoom = $state<number | null>(null);
  const untouched = $derived(!desk.state?.undo && !desk.state?.redo && !shot.plate && !wordsRead);
  let shift = $state({ x: 0, y: 0 });
  let canvas = $state<HTMLCanvasElement>();
  const frame = $derived(frameOf(stage, shot, zoom, shift));
  const views: [View, string][] = [
    ['plate', 'Over plate'],
    ['particles', 'Particles'],
    ['alpha', 'Alpha'],
  ];
  const figures = $derived(desk.figures);
  const number = new Intl.NumberFormat('en').format;
  const born = $derived(
    desk.state?.guides.reduce((sum, g, i) => sum + (shot.emitters[i]?.on ? g.forecast.born_per_s : 0), 0) ??
      0,
  );
  const facts = $derived(
    figures
      ? [
          `${number(figures.alive)} alive`,
          `${number(Math.round(born))} born/s`,
          ...(figures.outside ? [`${number(figures.outside)} outside`] : []),
          ...(figures.specks ? [`${number(figures.specks)} too small`] : []),
          `${figures.ms < 10 ? figures.ms.toFixed(1) : Math.round(figures.ms)} ms`,
          `${Math.round(figures.memory_bytes / 1048576)} MB`,
        ].join(' · ')
      : '',
  );
  const starved = $derived(
    Object.entries(figures?.refused ?? {}).map(
      ([id, count]) =>
        `${shot.emitters.find((e) => e.id === id)?.name ?? id}: ${number(count)} births found no room`,
    ),
  );

  $effect(() => {
    const density = Math.min(2, window.devicePixelRatio || 1);
    const most = Math.max(shot.width, 640) * 2;
    desk.size(Math.round(Math.min(most, Math.max(32, frame.width * density))));
  });

  $effect(() => {
    const picture = desk.picture;
    if (!canvas || !picture) return;
    if (canvas.width !== picture.width || canvas.height !== picture.height) {
      canvas.width = picture.width;
      canvas.height = picture.height;
    }
    canvas.getContext('2d', { alpha: false })?.drawImage(picture, 0, 0);
  });

  function wheel(event: WheelEvent): void {
    event.preventDefault();
    const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
    const [x, y] = [event.clientX - box.left, event.clientY - box.top];
    const at = toShot(frame, shot, x, y);
    const fit = Math.min(stage.width / shot.width, stage.height / shot.height);
    const next = Math.min(8, Math.max(fit * 0.5, (frame.width / shot.width) * 1.0015 ** -event.deltaY));
    zoom = next;
    shift = {
      x: x - at.x * next - (stage.width - shot.width * next) / 2,
      y: y - at.y * next - (stage.height - shot.height * next) / 2,
    };
  }

  function fit(): void {
    zoom = null;
    shift = { x: 0, y: 0 };
  }

  async function pick(event: PointerEvent): Promise<void> {
    const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
    const at = toShot(frame, shot, event.clientX - box.left, event.clientY - box.top);
    try {
      const query = `frame=${desk.frame}&x=${at.x}&y=${at.y}`;
      const found = await get<{ colour: string }>(`/api/shots/${desk.id}/pick?${query}`);
      desk.picking?.(found.colour);
    } catch (error) {
      notices.trouble(error);
    }
    desk.picking = null;
  }

  function press(event: PointerEvent): void {
    if (desk.picking) {
      void pick(event);
      return;
    }
    if (event.button > 1) return;
    const target = event.currentTarget as HTMLElement;
    const from = { x: event.clientX - shift.x, y: event.clientY - shift.y };
    target.setPointerCapture(event.pointerId);
    const move = (e: PointerEvent): void => {
      zoom ??= frame.width / shot.width;
      shift = { x: e.clientX - from.x, y: e.clientY - from.y };
    };
    const up = (): void => {
      target.removeEventListener('pointermove', move);
      target.removeEventListener('pointerup', up);
    };
    target.addEventListener('pointermove', move);
    target.addEventListener('pointerup', up);
  }
</script>

<div
  class="relative h-full overflow-hidden bg-surround"
  bind:clientWidth={stage.width}
  bind:clientHeight={stage.height}
>
  <!-- svelte-ignore a11y_no_static_element_interactions -->
  <div
    class="absolute inset-0 touch-none"
    class:cursor-crosshair={desk.picking !== null}
    onwheel={wheel}
    onpointerdown={press}
    ondblclick={fit}
  >
    <canvas
      bind:this={canvas}
      data-frame={desk.header?.frame}
      data-revision={desk.header?.revision}
      data-serial={desk.header?.serial}
      data-exact={desk.header?.exact}
      aria-label="The picture, frame {desk.frame}"
      class="absolute"
      style="left:{frame.left}px;top:{frame.top}px;width:{frame.width}px;height:{frame.height}px"
    ></canvas>
  </div>
  {#if desk.guidesOn && !desk.playing && desk.view !== 'alpha' && desk.guides && desk.emitter}
    <Guides {desk} guides={desk.guides} emitter={desk.emitter} {frame} />
  {/if}

  <div
    class="absolute top-2.5 left-2.5 flex rounded-lg bg-[#101214d9] p-0.5 text-[#c9cccc]"
    role="radiogroup"
    aria-label="View"
  >
    {#each views as [name, label] (name)}
      <button
        role="radio"
        aria-checked={desk.view === name}
        class="rounded-md px-2.5 py-1 text-[11.5px] {desk.view === name
          ? 'bg-[#3a3d3f] text-white'
          : 'hover:text-white'}"
        onclick={() => desk.show(name)}>{label}</button
      >
    {/each}
  </div>
  <div class="absolute top-2.5 right-2.5 flex flex-col items-end gap-1 text-[11.5px] text-[#e4e6e6]">
    <span class="rounded-lg bg-[#101214d9] px-2.5 py-1" data-facts>{facts}</span>
    {#if zoom !== null}
      <button class="rounded-lg bg-[#101214d9] px-2.5 py-1 hover:text-white" onclick={fit}
        >{Math.round((frame.width / shot.width) * 100)} % · fit</button
      >
    {/if}
  </div>
  <div class="absolute right-2.5 bottom-2.5 left-2.5 flex flex-col gap-1.5">
    {#if desk.picking}
      <p class="self-center rounded-lg bg-[#101214d9] px-3 py-1.5 text-white">
        Click on the plate to take its colour. Esc leaves it.
      </p>
    {/if}
    {#if untouched && !desk.picking && !desk.playing}<FirstWords onclose={() => (wordsRead = true)} />{/if}
    {#each starved as text (text)}
      <p class="rounded-lg border border-[#f2b950] bg-[#101214e8] px-3 py-1.5 text-[#f2b950]">
        ⚠ {text}. Raise its limit, or the shot's.
      </p>
    {/each}
    {#if desk.problem}
      <p class="rounded-lg border border-[#ff8f8f] bg-[#101214f0] px-3 py-1.5 text-[#ffb3b3]" role="alert">
        ⚠ {desk.problem.what}
        <span class="text-[#c9cccc]">{desk.problem.where} {desk.problem.remedy}</span>
      </p>
    {/if}
  </div>
</div>
