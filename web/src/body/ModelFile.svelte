<script lang="ts">
  import type { Desk } from '../state/desk.svelte';

  /** owner: a thing whose form is a model file; path: its JSON pointer. */
  let {
    desk,
    owner,
    path,
  }: { desk: Desk; owner: { media?: string; digest?: string; name?: string }; path: string } = $props();

  function choose(): void {
    desk.tools.choosingModel = ({ media, digest, name }) =>
      desk.set(path, { ...owner, form: 'file', media, digest, name }, 'Model');
  }
</script>

<button class="button mt-1.5 h-6! px-2! text-[11.5px]" onclick={choose}
  >{owner.name ? `${owner.name} …` : 'Select a model …'}</button
>
