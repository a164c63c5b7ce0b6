<script lang="ts">
  import type { Emitter } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { shown } from '../ui/arithmetic';

  let { desk, emitter, path }: { desk: Desk; emitter: Emitter; path: string } = $props();
  const tints = $derived(emitter.tint);

  function put(list: Emitter['tint'], what: string): void {
    const sorted = [...list].sort((a, b) => a.at_s - b.at_s);
    desk.set(`${path}/tint`, sorted, `Colour at birth: ${what}`);
  }

  function here(): void {
    const at_s = Number(desk.player.now.toFixed(4));
    const near = tints.filter((t) => Math.abs(t.at_s - at_s) >= 0.5 / desk.player.fps);
    const colour = tints.filter((t) => t.at_s <= at_s).pop()?.colour ?? '#ffffff';
    put([...near, { at_s, colour }], 'key');
  }
</script>

<div
  class="flex min-h-[26px] items-center justify-between border-b border-line py-px"
  title="Keys over shot time: particles born then keep the colour. It multiplies the gradient over life."
>
  <span class:text-dawn={tints.length > 0}>Colour at birth</span>
  <span class="flex flex-wrap items-center justify-end gap-1">
    {#each tints as tint, i (i)}
      <span class="flex items-center" title="At {shown(tint.at_s)} s">
        <input
          type="color"
          class="h-[18px] w-5 rounded border border-line-strong bg-transparent"
          aria-label="Colour at birth at {shown(tint.at_s)} s"
          value={tint.colour}
          onchange={(e) =>
            put(
              tints.map((t, j) => (j === i ? { ...t, colour: e.currentTarget.value } : t)),
              'colour',
            )}
        />
        <button
          class="px-0.5 text-[11px] text-soft hover:text-word"
          aria-label="Remove the colour at {shown(tint.at_s)} s"
          onclick={() =>
            put(
              tints.filter((_, j) => j !== i),
              'key away',
            )}>×</button
        >
      </span>
    {/each}
    <button class="rounded px-1.5 text-[11.5px] text-soft hover:text-word" onclick={here}
      >key at {desk.player.where}</button
    >
  </span>
</div>
