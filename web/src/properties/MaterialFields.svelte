<script lang="ts">
  import type { Material } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Fields from '../ui/Fields.svelte';
  import SkyFile from '../body/SkyFile.svelte';

  let { desk, look, path }: { desk: Desk; look: Material; path: string } = $props();
</script>

<Fields {desk} model="Material" owner={look} {path} without={['sky']} />
<SkyFile {desk} owner={look} {path} />
