<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import FileRow from '../ui/FileRow.svelte';

  let { desk, owner, path }: { desk: Desk; owner: { surroundings?: string; sky?: string }; path: string } =
    $props();

  function choose(): void {
    desk.tools.choosing = {
      title: 'A picture of all directions',
      take: (media) => desk.set(`${path}/sky`, media, 'Picture of the surroundings'),
    };
  }
</script>

{#if owner.surroundings === 'picture'}
  <FileRow label="Picture of the surroundings" media={owner.sky ?? ''} onclick={choose} />
{/if}
