<script lang="ts">
  import type { Solid } from '../api/client';
  import ModelFile from '../body/ModelFile.svelte';
  import type { Desk } from '../state/desk.svelte';
  import Fields from '../ui/Fields.svelte';

  let { desk, model, path }: { desk: Desk; model: Solid; path: string } = $props();
</script>

<Fields {desk} model="Solid" owner={model} {path} without={['media', 'digest', 'name']} />
{#if model.form === 'file'}<ModelFile {desk} owner={model} {path} />{/if}
