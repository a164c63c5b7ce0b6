<script lang="ts">
  import type { Matte } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Fields from '../fields/Fields.svelte';
  import Switch from '../fields/Switch.svelte';
  import { hide, place, tied } from './fields';
  import PlaceFields from './PlaceFields.svelte';

  let { desk, matte }: { desk: Desk; matte: Matte } = $props();
  const path = $derived(desk.path);
  const lit = $derived(matte.catches.value > 0 || matte.catches.keys.length > 0);
  const without = $derived([...place, ...tied.filter((name) => name !== 'kind'), ...(lit ? [] : ['lit_by'])]);
</script>

<Fields {desk} model="Matte" owner={matte} {path} {without} />
{#if matte.kind === 'shape' || matte.kind === 'model'}<PlaceFields
    {desk}
    owner={matte}
    model="Matte"
    {path}
  />{/if}
<p class="py-2 text-soft">Emitters that it hides:</p>
{#each desk.shot!.emitters as emitter, i (emitter.id)}
  <Switch
    label={emitter.name}
    on={emitter.hidden_by.includes(matte.id)}
    onset={(on) => hide(desk, emitter, `/emitters/${i}`, matte.id, on)}
  />
{/each}
