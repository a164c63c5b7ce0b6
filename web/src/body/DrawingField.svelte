<script lang="ts">
  import { upload } from '../api/client';
  import FileButton from '../fields/FileButton.svelte';
  import type { ControlProps } from '../fields/controls';

  /** Outlines of the shape or of a body of an emitter. */
  let { desk, owner, path }: ControlProps = $props();
  const name = $derived((owner as { name?: string }).name);

  async function take(file: File): Promise<void> {
    // /emitters/0/shape, /emitters/0/body, or /emitters/0/mixed/1.
    const [, , emitter, part, mixed] = path.split('/');
    const id = encodeURIComponent(desk.shot!.emitters[Number(emitter)]!.id);
    const body = part === 'shape' ? '' : `&body=${mixed === undefined ? 0 : Number(mixed) + 1}`;
    await upload(
      'POST',
      `/api/shots/${desk.id}/artwork/${id}?name=${encodeURIComponent(file.name)}${body}`,
      file,
    );
    await desk.reload();
  }
</script>

<FileButton
  text={name ? `${name} …` : 'Select an SVG file …'}
  label="SVG artwork"
  accept=".svg,image/svg+xml"
  look="button my-1.5 h-6! px-2! text-[11.5px]"
  ontake={take}
/>
