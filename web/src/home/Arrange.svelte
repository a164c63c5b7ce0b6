<script lang="ts">
  import Choice from '../fields/Choice.svelte';
  import Icon from '../ui/Icon.svelte';
  import { sorts, type Sort } from './arrangement';
  import type { HomeSettings } from './home_settings.svelte';

  /** What is looked for among the shots, their order, and the size of their tiles. */
  let { settings, query = $bindable() }: { settings: HomeSettings; query: string } = $props();
  const sizes = [
    { value: 'big', label: 'Big' },
    { value: 'small', label: 'Small' },
  ];
</script>

<div class="mx-auto flex max-w-[1120px] items-center gap-4 px-6 pb-4" role="search">
  <label class="relative">
    <span class="absolute top-1.5 left-2 text-soft"><Icon name="search" size={14} /></span>
    <input
      class="field w-64 pl-7!"
      type="search"
      placeholder="Find a shot or project"
      aria-label="Find a shot or project"
      bind:value={query}
    />
  </label>
  <div class="flex items-center gap-1.5 text-soft">
    Sort by
    <Choice
      label="Sort by"
      value={settings.sort}
      items={sorts}
      row={false}
      slim
      onset={(sort) => settings.set({ sort: sort as Sort })}
    />
  </div>
  <div class="flex items-center gap-1.5 text-soft">
    Tiles
    <Choice
      label="Size of the tiles"
      value={settings.small ? 'small' : 'big'}
      items={sizes}
      row={false}
      slim
      onset={(size) => settings.set({ small: size === 'small' })}
    />
  </div>
</div>
