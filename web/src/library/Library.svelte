<script lang="ts">
  import { api, got, upload, type PresetCard } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import FileButton from '../fields/FileButton.svelte';
  import Icon from '../ui/Icon.svelte';
  import MovingPicture from '../ui/MovingPicture.svelte';
  import Sheet from '../ui/Sheet.svelte';

  let { desk, open = $bindable() }: { desk: Desk; open: boolean } = $props();
  let cards = $state<PresetCard[]>([]);
  let words = $state('');
  let editing = $state<PresetCard | null>(null);
  const tags = $derived([...new Set(cards.flatMap((c) => c.tags))].sort());
  const emitter = $derived(desk.emitter);

  $effect(() => {
    if (open) void load(words);
  });

  async function tried(work: () => Promise<unknown>): Promise<void> {
    try {
      await work();
      await load(words);
    } catch (error) {
      notices.trouble(error);
    }
  }

  let asked = 0;
  async function load(find: string): Promise<void> {
    const mine = ++asked;
    try {
      const found = await got(api.GET('/api/emitters', { params: { query: { find } } }));
      // What was asked for later may have come before.
      if (mine === asked) cards = found;
    } catch (error) {
      notices.trouble(error);
    }
  }

  const keep = (): Promise<void> =>
    tried(async () => {
      const name = emitter!.name;
      const made = await got(
        api.POST('/api/emitters', { body: { shot: desk.id, emitter: emitter!.id, name, tags: [] } }),
      );
      editing = made;
    });

  const rename = (card: PresetCard, name: string, list: string): Promise<void> =>
    tried(async () => {
      const kept = list.split(',').map((t) => t.trim());
      await got(
        api.PATCH('/api/emitters/{preset_id}', {
          params: { path: { preset_id: card.id } },
          body: { name: name.trim(), tags: kept.filter(Boolean) },
        }),
      );
      editing = null;
    });

  async function plant(card: PresetCard): Promise<void> {
    await desk.plant(card.id);
    open = false;
  }

  const take = (given: File): Promise<void> =>
    tried(() => upload('POST', `/api/emitters/import?name=${encodeURIComponent(given.name)}`, given));
</script>

<Sheet
  bind:open
  title="Library of emitters"
  about="Each includes the forces, zones and markers that it uses."
  size="wide"
>
  <div class="flex items-center gap-2 pb-2">
    <input
      class="field flex-1"
      placeholder="Find by name, tag or force"
      aria-label="Find an emitter"
      bind:value={words}
    />
    {#if emitter}
      <button class="button main" onclick={keep}>Save {emitter.name}</button>
    {/if}
    <FileButton text="Import a file …" label="Emitter file" accept=".json" look="button" ontake={take} />
  </div>
  <div class="flex flex-wrap gap-1 pb-3">
    {#each tags as tag (tag)}
      <button
        class="rounded-full border px-2 text-[11px] leading-[18px] {words === tag
          ? 'border-aurora text-aurora'
          : 'border-line-strong text-soft hover:text-word'}"
        onclick={() => (words = words === tag ? '' : tag)}>{tag}</button
      >
    {/each}
  </div>
  <ul class="grid grid-cols-4 gap-2.5">
    {#each cards as card (card.id)}
      <li
        class="overflow-hidden rounded-lg border border-line-strong hover:border-soft"
        data-preset={card.id}
      >
        <button class="block w-full" aria-label="Add {card.name} to the shot" onclick={() => plant(card)}>
          <MovingPicture src="/api/emitters/{card.id}/thumb" frames={16} ratio="16/9" />
        </button>
        {#if editing?.id === card.id}
          <form
            class="grid gap-1 bg-raised p-1.5"
            onsubmit={(e) => {
              e.preventDefault();
              const data = new FormData(e.currentTarget);
              void rename(card, String(data.get('name')), String(data.get('tags')));
            }}
          >
            <input name="name" class="field h-6!" aria-label="Name" required value={card.name} />
            <input
              name="tags"
              class="field h-6!"
              aria-label="Tags, with commas"
              placeholder="tags, with commas"
              value={card.tags.join(', ')}
            />
            <button class="button h-6!">Save</button>
          </form>
        {:else}
          <div class="flex items-center bg-raised py-1 pl-2">
            <div class="min-w-0 flex-1">
              <div class="truncate font-semibold">{card.name}</div>
              <div class="truncate text-[10.5px] text-soft">
                {card.tags.join(' · ') || (card.shipped ? '' : 'your own')}
              </div>
            </div>
            <a
              class="quiet min-w-6! px-0.5!"
              href="/api/emitters/{card.id}/export"
              download
              aria-label="Export {card.name}"
              title="Export as a file"><Icon name="save" size={12} /></a
            >
            {#if !card.shipped}
              <button
                class="quiet min-w-6! px-0.5!"
                aria-label="Rename {card.name}"
                title="Name and tags"
                onclick={() => (editing = card)}><Icon name="more" size={12} /></button
              >
              <button
                class="quiet min-w-6! px-0.5!"
                aria-label="Remove {card.name}"
                title="Remove from the library"
                onclick={() =>
                  tried(() =>
                    got(
                      api.DELETE('/api/emitters/{preset_id}', { params: { path: { preset_id: card.id } } }),
                    ),
                  )}><Icon name="trash" size={12} /></button
              >
            {/if}
          </div>
        {/if}
      </li>
    {:else}
      <li class="col-span-4 py-6 text-center text-soft">No emitter has this name.</li>
    {/each}
  </ul>
</Sheet>
