<script lang="ts">
  import { upload } from '../api/client';
  import type { components } from '../api/types';
  import type { Desk } from '../state/desk.svelte';
  import FileButton from '../ui/FileButton.svelte';

  /** owner: a body or a source whose form is a model file; path: its JSON pointer. */
  let {
    desk,
    owner,
    path,
  }: { desk: Desk; owner: { media?: string; digest?: string; name?: string }; path: string } = $props();
  let facts = $state('');

  async function take(file: File): Promise<void> {
    const url = `/api/projects/${desk.state?.project_id ?? 0}/models?name=${encodeURIComponent(file.name)}`;
    const model = await upload<components['schemas']['ModelTaken']>('PUT', url, file);
    const { media, digest, name } = model;
    desk.set(path, { ...owner, form: 'file', media, digest, name }, 'Model');
    const inside = model.closed ? 'closed' : 'open: it has no inside';
    facts = `${model.faces.toLocaleString('en')} faces, ${inside}${model.inverted ? '; faces turned outward' : ''}`;
  }
</script>

<FileButton
  text={owner.name ? `${owner.name} …` : 'Select a model file …'}
  label="Model file"
  accept=".obj,.glb,.gltf,.ply,.stl,.usd,.usda,.usdc,.usdz"
  look="button mt-1.5 h-6! px-2! text-[11.5px]"
  ontake={take}
/>
{#if facts}<p class="pt-1 text-soft">{facts}</p>{/if}
