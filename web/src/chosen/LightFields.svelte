<script lang="ts">
  import type { Lamp } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Fields from '../ui/Fields.svelte';
  import NumberRow from '../ui/NumberRow.svelte';
  import { place, tied } from './fields';
  import PlaceFields from './PlaceFields.svelte';

  let { desk, lamp }: { desk: Desk; lamp: Lamp } = $props();
  const path = $derived(desk.path);
</script>

<Fields {desk} model="Lamp" owner={lamp} {path} without={[...place, ...tied]} />
<PlaceFields {desk} owner={lamp} model="Lamp" {path} />
<p class="py-2 text-soft">
  It reveals particles that are lit by lights: in full within its inner line, fading to nothing at the outer
  one. How much each emitter is lit by lights:
</p>
{#each desk.shot!.emitters as emitter, i (emitter.id)}
  <NumberRow {desk} label={emitter.name} model="Emitter" owner={emitter} path="/emitters/{i}" field="lit" />
{/each}
