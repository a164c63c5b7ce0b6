<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import { follow } from '../ui/drag';
  import Icon from '../ui/Icon.svelte';
  import type { Frame } from '../picture/geometry';

  /** The picture's place on the stage, and the width of the stage. */
  let { desk, frame, stage }: { desk: Desk; frame: Frame; stage: number } = $props();
  const held = $derived(desk.tools.comparing!);
  let at = $state(0.5);
  let src = $state('');
  let loading = false;
  let wanted = '';

  // The version's picture of the same frame; while it plays, as many of them as come in time.
  $effect(() => {
    const wide = Math.min(4096, Math.max(64, Math.round(frame.width)));
    const view = desk.player.view === 'layers' || desk.player.view === 'under' ? 'plate' : desk.player.view;
    wanted = `/api/versions/${held.id}/frame?frame=${desk.player.frame}&width=${wide}&view=${view}`;
    void next();
  });

  async function next(): Promise<void> {
    if (loading || wanted === src) return;
    loading = true;
    const url = wanted;
    const image = new Image();
    image.src = url;
    try {
      await image.decode();
      src = url;
    } catch {
      /* the picture that is there stays; the next frame asks again */
    }
    loading = false;
    if (wanted !== url) void next();
  }

  const cut = $derived(held.how === 'wipe' ? frame.left + at * frame.width : stage / 2);
  /** Beside: both show the same middle part, each in its half of the stage. */
  const shift = $derived(held.how === 'side' ? stage / 4 : 0);

  function drag(event: PointerEvent): void {
    event.stopPropagation();
    const from = { x: event.clientX, at };
    follow(event, {
      move: (e) => (at = Math.min(1, Math.max(0, from.at + (e.clientX - from.x) / Math.max(1, frame.width)))),
    });
  }
</script>

<div
  class="pointer-events-none absolute inset-y-0 left-0 overflow-hidden"
  style="width:{Math.max(0, cut)}px"
  class:bg-surround={held.how === 'side'}
  data-compare={held.how}
>
  {#if src}
    <img
      {src}
      alt="The version {held.name}, frame {desk.player.frame}"
      class="absolute max-w-none"
      style="left:{frame.left - shift}px;top:{frame.top}px;width:{frame.width}px;height:{frame.height}px"
    />
  {/if}
</div>
<div class="pointer-events-none absolute inset-y-0 w-px bg-white/80" style="left:{cut}px"></div>
{#if held.how === 'wipe'}
  <div
    role="slider"
    tabindex="0"
    aria-label="Wipe position"
    aria-valuenow={Math.round(at * 100)}
    class="absolute top-1/2 grid size-6 -translate-x-1/2 -translate-y-1/2 cursor-ew-resize touch-none place-items-center rounded-full bg-white/90 text-[#101214]"
    style="left:{cut}px"
    onpointerdown={drag}
    onkeydown={(e) => {
      const by = { ArrowLeft: -0.02, ArrowRight: 0.02 }[e.key];
      if (!by) return;
      e.preventDefault();
      e.stopPropagation();
      at = Math.min(1, Math.max(0, at + by));
    }}
  >
    <span class="flex"
      ><span class="rotate-180"><Icon name="chevron" size={10} /></span><Icon
        name="chevron"
        size={10}
      /></span
    >
  </div>
{/if}
<div class="absolute top-12 left-2.5 rounded-lg bg-[#101214d9] px-2.5 py-1 text-[11.5px] text-[#e4e6e6]">
  {held.name}
</div>
<div
  class="absolute top-12 right-2.5 flex items-center gap-1 rounded-lg bg-[#101214d9] py-0.5 pr-1 pl-2.5 text-[11.5px] text-[#e4e6e6]"
>
  now
  <button
    class="ml-1.5 rounded-md border border-[#5a5d5f] px-1.5 hover:border-white"
    onclick={() => (desk.tools.comparing = { ...held, how: held.how === 'wipe' ? 'side' : 'wipe' })}
    >{held.how === 'wipe' ? 'Side by side' : 'Wipe'}</button
  >
  <button
    class="p-1 hover:text-white"
    aria-label="End the comparison"
    onclick={() => (desk.tools.comparing = null)}><Icon name="close" size={12} /></button
  >
</div>
