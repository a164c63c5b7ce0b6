<script lang="ts">
  import type { Command } from '../keys/commands';
  import Sheet from '../ui/Sheet.svelte';
  import KeyList from './KeyList.svelte';
  import type { Page } from './pages';

  let { commands, open = $bindable() }: { commands: Command[]; open: boolean } = $props();
  let handbook = $state.raw<typeof import('./pages') | null>(null);
  let wanted = $state('');
  let chosen = $state('keys');
  $effect(() => {
    if (open && !handbook) void import('./pages').then((loaded) => (handbook = loaded));
  });
  const found = $derived(handbook ? (wanted.trim() ? handbook.search(wanted) : handbook.pages) : []);
  const page = $derived(handbook?.pages.find((one) => one.name === chosen));
  const parts = $derived(
    (
      [
        ['Guide', found.filter((one) => !one.recipe)],
        ['Recipes', found.filter((one) => one.recipe)],
      ] as [string, Page[]][]
    ).filter(([, list]) => list.length > 0),
  );
</script>

{#snippet entry(name: string, title: string)}
  <button
    class="block min-h-[26px] w-full rounded px-2 py-1 text-left leading-snug hover:bg-raised aria-[current]:bg-raised aria-[current]:font-semibold"
    aria-current={chosen === name ? 'page' : undefined}
    onclick={() => (chosen = name)}>{title}</button
  >
{/snippet}

<Sheet bind:open title="Help" about="The handbook and all shortcuts" size="broad">
  <div class="grid h-[68vh] grid-cols-[240px_1fr] gap-5">
    <nav class="overflow-y-auto border-r border-line pr-3" aria-label="Pages of the handbook">
      <input
        type="search"
        class="field mb-2 w-full"
        placeholder="Search the handbook"
        aria-label="Search the handbook"
        bind:value={wanted}
      />
      {#if !wanted.trim()}{@render entry('keys', 'Shortcuts')}{/if}
      {#each parts as [heading, list] (heading)}
        <h3 class="px-2 pt-3 pb-1 text-[11px] text-soft">{heading}</h3>
        {#each list as one (one.name)}{@render entry(one.name, one.title)}{/each}
      {:else}
        <p class="px-2 pt-2 text-soft">
          {handbook ? 'No page contains these words.' : 'Loading the handbook …'}
        </p>
      {/each}
    </nav>
    {#key chosen}
      <article class="overflow-y-auto pr-2" data-page={chosen}>
        {#if page && handbook}
          <!-- eslint-disable-next-line svelte/no-at-html-tags -- our own handbook, built into the page -->
          <div class="handbook">{@html handbook.html(page)}</div>
        {:else}
          <KeyList {commands} />
        {/if}
      </article>
    {/key}
  </div>
</Sheet>

<style>
  .handbook {
    max-width: 640px;
    line-height: 1.55;
  }
  .handbook :global(h1) {
    margin-bottom: 8px;
    font-size: 18px;
    font-weight: 650;
  }
  .handbook :global(h2) {
    margin: 18px 0 6px;
    font-size: 14px;
    font-weight: 650;
  }
  .handbook :global(p),
  .handbook :global(ul),
  .handbook :global(ol),
  .handbook :global(table) {
    margin-bottom: 8px;
  }
  .handbook :global(ol) {
    padding-left: 22px;
    list-style: decimal;
  }
  .handbook :global(ul) {
    padding-left: 18px;
    list-style: disc;
  }
  .handbook :global(li) {
    margin-bottom: 3px;
  }
  .handbook :global(img) {
    margin: 6px 0 10px;
    border-radius: 8px;
  }
  .handbook :global(code) {
    padding: 1px 5px;
    border-radius: 4px;
    background: var(--well);
    font-family: inherit;
    font-weight: 600;
    font-size: 12px;
  }
  .handbook :global(td),
  .handbook :global(th) {
    padding: 4px 12px 4px 0;
    border-bottom: 1px solid var(--line);
    text-align: left;
    vertical-align: top;
  }
</style>
