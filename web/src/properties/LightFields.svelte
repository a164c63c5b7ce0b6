<script lang="ts">
  import type { Lamp } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Fields from '../fields/Fields.svelte';
  import NumberRow from '../fields/NumberRow.svelte';
  import { place, tied } from './fields';
  import PlaceFields from './PlaceFields.svelte';

  let { desk, lamp }: { desk: Desk; lamp: Lamp } = $props();
  const path = $derived(desk.path);
</script>

<Fields {desk} model="Lamp" owner={lamp} {path} without={[...place, ...tied]} />
<PlaceFields {desk} owner={lamp} model="Lamp" {path} />
<p class="py-2 text-soft">
  Lights particles: fully inside its inner line, fading to 0 at the outer line. How strongly each emitter is
  lit:
</p>
{#each desk.shot!.emitters as emitter, i (emitter.id)}
  <NumberRow {desk} label={emitter.name} model="Emitter" owner={emitter} path="/emitters/{i}" field="lit" />
{/each}
