<script lang="ts">
  import { Select } from 'bits-ui';
  import Icon from '../ui/Icon.svelte';

  interface Props {
    label: string;
    value: string;
    items: { value: string; label: string }[];
    row?: boolean;
    /** As low as its words. */
    slim?: boolean;
    hint?: string;
    onset: (value: string) => void;
  }
  let { label, value, items, row = true, slim = false, hint = '', onset }: Props = $props();
  const current = $derived(items.find((i) => i.value === value)?.label ?? value);
</script>

<div
  class={row ? 'flex h-[26px] items-center justify-between border-b border-line' : 'contents'}
  title={hint}
>
  {#if row}<span class="line-clamp-2 shrink-0 pr-2 leading-[13px]">{label}</span>{/if}
  <Select.Root type="single" {value} {items} onValueChange={onset}>
    <Select.Trigger
      aria-label={label}
      class="flex items-center gap-1 rounded px-1.5 font-semibold hover:bg-raised {row
        ? 'h-[22px]'
        : slim
          ? 'h-5 border border-line-strong font-normal!'
          : 'h-7 w-full justify-between border border-line-strong bg-well'}"
    >
      <span class="truncate">{current}</span><span class="rotate-90 text-soft"
        ><Icon name="chevron" size={11} /></span
      >
    </Select.Trigger>
    <Select.Portal>
      <Select.Content
        sideOffset={4}
        class="z-60 max-h-96 min-w-36 overflow-auto rounded-lg border border-line-strong bg-raised p-1 shadow-xl"
      >
        {#each items as item (item.value)}
          <Select.Item
            value={item.value}
            label={item.label}
            class="flex h-7 shrink-0 items-center rounded px-2 data-highlighted:bg-aurora-ground data-selected:text-aurora"
          >
            {item.label}
          </Select.Item>
        {/each}
      </Select.Content>
    </Select.Portal>
  </Select.Root>
</div>
