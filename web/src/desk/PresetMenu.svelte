<script lang="ts" generics="Preset extends { name: string }">
  import { Popover } from 'bits-ui';
  import type { Snippet } from 'svelte';
  import Icon from '../ui/Icon.svelte';

  interface Props {
    /** Of what: `size`, `colour`. */
    of: string;
    presets: readonly Preset[];
    columns: 2 | 4;
    onchoose: (preset: Preset) => void;
    picture: Snippet<[Preset]>;
  }
  let { of, presets, columns, onchoose, picture }: Props = $props();
  let open = $state(false);
</script>

<Popover.Root bind:open>
  <Popover.Trigger class="quiet ml-auto size-6! min-w-6!" aria-label="Presets for {of}" title="Presets">
    <span class="text-ice"><Icon name="curve" size={13} /></span>
  </Popover.Trigger>
  <Popover.Portal>
    <Popover.Content
      role="dialog"
      aria-label="Presets for {of}"
      side="top"
      align="start"
      sideOffset={6}
      class="z-60 grid w-[348px] gap-1.5 rounded-xl border border-line-strong bg-raised p-2 shadow-2xl {columns ===
      2
        ? 'grid-cols-2'
        : 'grid-cols-4'}"
    >
      {#each presets as preset (preset.name)}
        <button
          class="rounded-lg p-1.5 text-left hover:bg-aurora-ground"
          title={preset.name}
          onclick={() => {
            open = false;
            onchoose(preset);
          }}
        >
          {@render picture(preset)}
          <span class="block text-[10.5px] leading-tight text-soft">{preset.name}</span>
        </button>
      {/each}
    </Popover.Content>
  </Popover.Portal>
</Popover.Root>
