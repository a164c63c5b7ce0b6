<script lang="ts">
  import { got, api, type VersionCard } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import Icon from '../ui/Icon.svelte';
  import Sheet from '../ui/Sheet.svelte';

  let { desk, open = $bindable() }: { desk: Desk; open: boolean } = $props();
  let versions = $state.raw<VersionCard[]>([]);
  let name = $state('');
  let all = $state<number | null>(null);
  const few = 4;

  $effect(() => {
    if (!open) return;
    void load();
  });

  async function tried(work: () => Promise<unknown>): Promise<void> {
    try {
      await work();
    } catch (error) {
      notices.trouble(error);
    }
  }

  const load = (): Promise<void> =>
    tried(async () => {
      versions = await got(
        api.GET('/api/shots/{shot_id}/versions', { params: { path: { shot_id: desk.id } } }),
      );
      if (!name) name = `v${versions.length + 1}`;
    });

  const keep = (): Promise<void> =>
    tried(async () => {
      await got(
        api.POST('/api/shots/{shot_id}/versions', {
          params: { path: { shot_id: desk.id } },
          body: { name: name.trim(), changes: [] },
        }),
      );
      name = '';
      await load();
    });

  const rename = (version: VersionCard, to: string): Promise<void> =>
    tried(async () => {
      if (to.trim() && to.trim() !== version.name)
        await got(
          api.PATCH('/api/versions/{version_id}', {
            params: { path: { version_id: version.id } },
            body: { name: to.trim() },
          }),
        );
      await load();
    });

  const drop = (version: VersionCard): Promise<void> =>
    tried(async () => {
      await got(api.DELETE('/api/versions/{version_id}', { params: { path: { version_id: version.id } } }));
      if (desk.tools.comparing?.id === version.id) desk.tools.comparing = null;
      await load();
    });

  const take = (version: VersionCard): Promise<void> =>
    tried(async () => {
      await got(
        api.POST('/api/versions/{version_id}/take', { params: { path: { version_id: version.id } } }),
      );
      await desk.reload();
      open = false;
    });

  function compare(version: VersionCard, how: 'wipe' | 'side'): void {
    desk.tools.comparing = { id: version.id, name: version.name, how };
    desk.player.lookFrom(null);
    open = false;
  }
</script>

<Sheet bind:open title="Versions" about="Saved states of the shot, to compare and to restore." size="wide">
  <form
    class="flex gap-2"
    onsubmit={(e) => {
      e.preventDefault();
      void keep();
    }}
  >
    <input class="field flex-1" aria-label="New version name" maxlength="80" required bind:value={name} />
    <button class="button main">Save a version</button>
  </form>
  {#if versions.length === 0}
    <p class="pt-4 text-soft">
      No version yet. Save one before you try something, then compare both on the same frame, side by side or
      with a wipe.
    </p>
  {/if}
  <ul class="pt-3">
    {#each [...versions].reverse() as version (version.id)}
      <li class="flex gap-3 border-t border-line py-2.5" data-version={version.name}>
        <img
          class="aspect-video w-40 shrink-0 rounded-md bg-well object-cover"
          src="/api/versions/{version.id}/frame?frame={desk.player.frame}&width=320"
          alt=""
        />
        <div class="min-w-0 flex-1">
          <input
            class="w-full rounded bg-transparent px-1 font-semibold hover:bg-raised focus:bg-well"
            aria-label="Name of the version"
            value={version.name}
            onchange={(e) => rename(version, e.currentTarget.value)}
            onkeydown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
          />
          <ul class="px-1 text-[11.5px] text-soft">
            {#each all === version.id ? version.differences : version.differences.slice(0, few) as text, i (i)}
              <li>{text}</li>
            {:else}
              <li>The shot equals this version.</li>
            {/each}
            {#if version.differences.length > few && all !== version.id}
              <li>
                <button class="hover:text-word" onclick={() => (all = version.id)}
                  >and {version.differences.length - few} more …</button
                >
              </li>
            {/if}
          </ul>
        </div>
        <div class="flex shrink-0 flex-col items-stretch gap-1">
          <button class="button h-6! px-2! text-[11.5px]" onclick={() => compare(version, 'wipe')}
            >Wipe</button
          >
          <button class="button h-6! px-2! text-[11.5px]" onclick={() => compare(version, 'side')}
            >Side by side</button
          >
          <span class="flex gap-1">
            <button class="button h-6! flex-1 px-2! text-[11.5px]" onclick={() => take(version)}
              >Restore</button
            >
            <button
              class="quiet"
              aria-label="Delete {version.name}"
              title="Delete it"
              onclick={() => drop(version)}><Icon name="trash" size={13} /></button
            >
          </span>
        </div>
      </li>
    {/each}
  </ul>
</Sheet>
