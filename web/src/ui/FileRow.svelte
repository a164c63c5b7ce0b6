<script lang="ts">
  import type { Desk } from '../state/desk.svelte';

  interface Props {
    desk: Desk;
    label: string;
    /** The file in the store; empty: none yet. */
    media: string;
    /** Where in the document it is named. */
    at: string;
    /** What the sheet of files is headed, and what the edit is called. */
    title: string;
    edit: string;
  }
  let { desk, label, media, at, title, edit }: Props = $props();

  function choose(): void {
    desk.tools.choosing = { title, take: (chosen) => desk.set(at, chosen, edit) };
  }
</script>

<div class="flex h-[26px] items-center justify-between border-b border-line">
  <span>{label}</span>
  <button class="truncate rounded px-1.5 font-semibold hover:bg-raised" onclick={choose}
    >{media ? media.split('/').pop() : 'Choose …'}</button
  >
</div>
