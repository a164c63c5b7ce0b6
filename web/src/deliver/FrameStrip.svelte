<script lang="ts">
  /** Frames shown evenly along the delivered range. */
  let { moments, first, last, length }: { moments: number[]; first: number; last: number; length: number } =
    $props();
  const WIDE = 560;
  const TALL = 64;
  const span = $derived(Math.max(1, last + 1 - first));
  const place = (moment: number) => TALL - 4 - ((moment - first) / span) * (TALL - 8);
  const line = $derived(
    moments
      .map((m, k) => `${((k / (moments.length - 1)) * WIDE).toFixed(1)},${place(m).toFixed(1)}`)
      .join(' '),
  );
  const marks = $derived(
    [0, 0.25, 0.5, 0.75, 1].map((share) => ({
      share,
      at: moments[Math.round(share * (moments.length - 1))]!,
    })),
  );
</script>

<figure aria-label="Shot frames in the delivery">
  <svg
    viewBox="0 0 {WIDE} {TALL}"
    class="h-16 w-full rounded-md bg-well"
    preserveAspectRatio="none"
    aria-hidden="true"
  >
    <line x1="0" y1={TALL - 4} x2={WIDE} y2="4" stroke="var(--line-strong)" stroke-dasharray="3 5" />
    {#each marks as mark (mark.share)}
      <line x1={mark.share * WIDE} y1="0" x2={mark.share * WIDE} y2={TALL} stroke="var(--line)" />
    {/each}
    <polyline
      points={line}
      fill="none"
      stroke="var(--ice)"
      stroke-width="2"
      vector-effect="non-scaling-stroke"
    />
  </svg>
  <figcaption class="mt-0.5 flex justify-between text-[11px] text-soft">
    {#each marks as mark (mark.share)}
      <span
        >{(mark.share * length).toFixed(1)} s
        <span class="text-ice">frame {mark.at.toFixed(1).replace(/\.0$/, '')}</span></span
      >
    {/each}
  </figcaption>
</figure>
