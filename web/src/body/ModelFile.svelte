<script lang="ts">
  import type { ControlProps } from '../fields/controls';

  /** owner: a thing whose form is a model file. */
  let { desk, owner, path }: ControlProps = $props();
  const name = $derived((owner as { name?: string }).name);

  function choose(): void {
    desk.tools.choosingModel = ({ media, digest, name }) =>
      desk.set(path, { ...owner, form: 'file', media, digest, name }, 'Model');
  }
</script>

<button class="button my-1.5 h-6! px-2! text-[11.5px]" onclick={choose}
  >{name ? `${name} …` : 'Select a model …'}</button
>
