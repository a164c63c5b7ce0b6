<script lang="ts">
  import type { Emitter } from '../api/client';

  type Cut = NonNullable<Emitter['pieces']>['cut'];
  interface Props {
    cut: Cut;
    /** Whether the shape has letters. */
    lettered: boolean;
    onset: (cut: Cut) => void;
  }
  let { cut, lettered, onset }: Props = $props();

  /** Pictures of the cuts on 32 × 24. */
  const cuts: { cut: Cut; label: string; picture: string; dots?: boolean }[] = [
    { cut: 'squares', label: 'Squares', picture: 'M2 2h28v20H2zM9 2v20M16 2v20M23 2v20M2 8.7h28M2 15.3h28' },
    {
      cut: 'hexagons',
      label: 'Hexagons',
      picture:
        'M11 3l4.5 2.6v5.2L11 13.4l-4.5-2.6V5.6zM20 3l4.5 2.6v5.2L20 13.4l-4.5-2.6V5.6zM15.5 10.8L20 13.4v5.2l-4.5 2.6-4.5-2.6v-5.2z',
    },
    {
      cut: 'shards',
      label: 'Shards',
      picture: 'M2 2h28v20H2zM11 2l-2 8-7 4M9 10l8 2 2-10M17 12l-3 10M17 12l7 3 6-6M24 15l-2 7M9 10l-3 12',
    },
    { cut: 'strips', label: 'Strips', picture: 'M2 2h28v20H2zM2 6h28M2 11h28M2 14.5h28M2 18h28' },
    {
      cut: 'letters',
      label: 'Letters',
      picture: 'M4 19L8.5 5 13 19M5.5 14.5h6M18 5v14M18 12c3-4 8-2 8 2.5S20 21 18 16.5',
    },
    { cut: 'words', label: 'Words', picture: 'M3 7h11v10H3zM18 7h11v10H18zM6 12h5M21 12h5' },
    {
      cut: 'points',
      label: 'Points',
      dots: true,
      picture: 'M5 6v0M11 4v0M18 7v0M26 5v0M7 12v0M15 13v0M22 12v0M28 14v0M4 19v0M11 20v0M19 19v0M26 20v0',
    },
  ];
  const offered = $derived(cuts.filter((one) => lettered || (one.cut !== 'letters' && one.cut !== 'words')));
</script>

<div class="grid grid-cols-4 gap-1 py-1.5" role="radiogroup" aria-label="Form of the pieces">
  {#each offered as one (one.cut)}
    <button
      role="radio"
      aria-checked={cut === one.cut}
      class="flex flex-col items-center gap-0.5 rounded border px-0.5 pt-1.5 pb-1 text-[11px] {cut === one.cut
        ? 'border-aurora bg-aurora-ground text-word'
        : 'border-line text-soft hover:bg-raised'}"
      onclick={() => onset(one.cut)}
    >
      <svg viewBox="0 0 32 24" width="36" height="27" aria-hidden="true">
        <path
          d={one.picture}
          fill="none"
          stroke="currentColor"
          stroke-width={one.dots ? 2.6 : 1.2}
          stroke-linecap="round"
          stroke-linejoin="round"
        />
      </svg>
      {one.label}
    </button>
  {/each}
</div>
