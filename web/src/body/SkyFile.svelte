<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import FileRow from '../ui/FileRow.svelte';

  let { desk, owner, path }: { desk: Desk; owner: { surroundings?: string; sky?: string }; path: string } =
    $props();
</script>

{#if owner.surroundings === 'picture'}
  <FileRow
    {desk}
    label="Picture of the surroundings"
    media={owner.sky ?? ''}
    at="{path}/sky"
    title="A picture of all directions"
    edit="Picture of the surroundings"
  />
{/if}
