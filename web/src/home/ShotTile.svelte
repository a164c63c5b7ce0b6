<script lang="ts">
  import type { ShotCard } from '../api/client';
  import { place } from '../state/place.svelte';
  import Icon from '../ui/Icon.svelte';
  import { framesPerSecond } from '../ui/rates';

  let { shot, oncopy, ondelete }: { shot: ShotCard; oncopy: () => void; ondelete: () => void } = $props();
  const rate = $derived(Number(framesPerSecond(shot.rate).toFixed(3)));
</script>

<article class="group overflow-hidden rounded-xl border border-line-strong hover:border-soft">
  <a
    href="/shots/{shot.id}"
    aria-label="Open {shot.name}"
    onclick={(e) => {
      e.preventDefault();
      place.go(`/shots/${shot.id}`);
    }}
  >
    <div
      class="relative grid aspect-video place-items-center overflow-hidden bg-surround"
      style="container-type:size"
    >
      <span class="absolute text-[11.5px] text-[#8d9191]">drawing its picture …</span>
      <div
        class="strip relative"
        style="background-image:url(/api/shots/{shot.id}/thumb?{shot.revision}); aspect-ratio:{shot.width}/{shot.height}"
      ></div>
    </div>
  </a>
  <div class="flex items-center bg-raised py-1.5 pr-1.5 pl-3">
    <div class="min-w-0 flex-1">
      <div class="truncate font-semibold">{shot.name}</div>
      <div class="text-[11px] text-soft">
        {shot.width} × {shot.height} · {rate} fps · {Number(shot.length_s.toFixed(2))} s
      </div>
    </div>
    <a
      class="quiet"
      href="/api/shots/{shot.id}/export"
      download
      aria-label="Export {shot.name}"
      title="Export as a file"><Icon name="save" size={14} /></a
    >
    <button class="quiet" aria-label="Copy {shot.name}" title="Copy" onclick={oncopy}
      ><Icon name="copy" size={14} /></button
    >
    <button class="quiet" aria-label="Delete {shot.name}" title="Delete" onclick={ondelete}
      ><Icon name="trash" size={14} /></button
    >
  </div>
</article>

<style>
  .strip {
    width: 100%;
    background-size: 100% 2000%;
    animation: run 2s steps(20, jump-none) infinite;
  }
  @keyframes run {
    from {
      background-position: 0 0;
    }
    to {
      background-position: 0 100%;
    }
  }
</style>
