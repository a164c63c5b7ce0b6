<script lang="ts">
  interface Props {
    label: string;
    items: { value: string; label: string }[];
    chosen: readonly string[];
    onset: (chosen: string[]) => void;
  }
  let { label, items, chosen, onset }: Props = $props();
</script>

<div class="flex flex-wrap items-center gap-1.5" role="group" aria-label={label}>
  <span class="mr-1 text-soft">{label}</span>
  {#each items as item (item.value)}
    {@const on = chosen.includes(item.value)}
    <button
      type="button"
      class="h-6 rounded-full border px-2.5 {on
        ? 'border-aurora bg-aurora-ground text-aurora'
        : 'border-line-strong text-soft hover:text-word'}"
      aria-pressed={on}
      onclick={() => onset(on ? chosen.filter((one) => one !== item.value) : [...chosen, item.value])}
      >{item.label}</button
    >
  {/each}
</div>
