<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import Icon from '../ui/Icon.svelte';

  interface Props {
    desk: Desk;
    label: string;
    value: string;
    hint?: string;
    onset: (colour: string) => void;
  }
  let { desk, label, value, hint = '', onset }: Props = $props();

  function typed(input: HTMLInputElement): void {
    const hit = /^#?([0-9a-f]{6})$/i.exec(input.value.trim());
    if (hit) onset(`#${hit[1]!.toLowerCase()}`);
    else input.value = value;
  }
</script>

<div class="flex h-[26px] items-center justify-between border-b border-line" title={hint}>
  <span class="line-clamp-2 pr-1 leading-[13px]">{label}</span>
  <span class="flex items-center gap-1">
    <input
      class="w-[62px] rounded bg-transparent px-1 text-right text-[11.5px] text-soft hover:bg-raised focus:bg-well"
      aria-label="{label} as text"
      {value}
      onchange={(e) => typed(e.currentTarget)}
      onkeydown={(e) => {
        e.stopPropagation();
        if (e.key === 'Enter') e.currentTarget.blur();
      }}
    />
    <input
      type="color"
      class="h-[18px] w-8 rounded border border-line-strong bg-transparent"
      aria-label={label}
      {value}
      onchange={(e) => onset(e.currentTarget.value)}
    />
    {#if desk.shot?.plate}
      <button
        class="quiet size-5! min-w-5!"
        aria-label="{label}: pick from the plate"
        title="Pick from the plate"
        onclick={() => (desk.tools.picking = onset)}><Icon name="pick" size={12} /></button
      >
    {/if}
  </span>
</div>
