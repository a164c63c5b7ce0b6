<script lang="ts">
  import type { ComingShot } from '../api/client';

  /** A shot of the demonstration whose plate is still painted. */
  let { shot }: { shot: ComingShot } = $props();
</script>

<article class="overflow-hidden rounded-xl border border-line" aria-label="{shot.name}, being prepared">
  <div class="grid aspect-video content-center justify-items-center gap-2 bg-well text-soft">
    <span class="text-[11.5px]">
      {shot.share > 0 ? `Painting its plate: ${Math.round(shot.share * 100)} %` : 'Waiting for its plate'}
    </span>
    <progress class="h-1.5 w-40" value={shot.share} max="1" aria-label="Painted of {shot.name}"></progress>
  </div>
  <div class="bg-raised px-3 py-1.5">
    <div class="truncate font-semibold text-soft">{shot.name}</div>
    <div class="text-[11px] text-soft">Not ready yet</div>
  </div>
</article>
