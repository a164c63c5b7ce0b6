<script lang="ts">
  import { api, got } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';

  let { desk, path }: { desk: Desk; path: string } = $props();
  let skins = $state.raw<{ name: string; skin: unknown }[]>([]);

  $effect(() => {
    got(api.GET('/api/skins')).then(
      (found) => (skins = found),
      (error: unknown) => notices.trouble(error),
    );
  });
</script>

<div class="grid grid-cols-3 gap-1.5 py-1.5" role="group" aria-label="Skins">
  {#each skins as one (one.name)}
    <button
      class="overflow-hidden rounded border border-line text-[11px] text-soft hover:border-aurora hover:text-word"
      onclick={() => desk.set(path, one.skin, one.name)}
    >
      <img
        class="block aspect-[8/5] w-full object-cover"
        src="/api/skins/{one.name}/picture"
        alt=""
        loading="lazy"
      />
      <span class="block py-0.5">{one.name}</span>
    </button>
  {/each}
</div>
