<script lang="ts">
  import type { ShotCard } from '../api/client';
  import { place } from '../state/place.svelte';
  import Icon from '../ui/Icon.svelte';
  import MovingPicture from '../ui/MovingPicture.svelte';
  import { framesPerSecond } from '../ui/rates';

  interface Props {
    shot: ShotCard;
    small?: boolean;
    /** Where a shot is shown a second time, it is only opened. */
    oncopy?: () => void;
    ondelete?: () => void;
  }
  let { shot, small = false, oncopy, ondelete }: Props = $props();
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
    <MovingPicture
      src="/api/shots/{shot.id}/thumb?{shot.revision}"
      frames={20}
      ratio="{shot.width}/{shot.height}"
    />
  </a>
  <div class="flex items-center bg-raised py-1.5 pr-1.5 pl-3">
    <div class="min-w-0 flex-1">
      <div class="truncate font-semibold">{shot.name}</div>
      {#if shot.problem}<div class="text-[11px] text-amber" role="alert">⚠ {shot.problem}</div>{/if}
      {#if !small}<div class="text-[11px] text-soft">
          {shot.width} × {shot.height} · {rate} fps · {Number(shot.length_s.toFixed(2))} s
        </div>{/if}
    </div>
    {#if !small && oncopy && ondelete}
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
    {/if}
  </div>
</article>
