<script lang="ts">
  import type { Matte } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Fields from '../ui/Fields.svelte';
  import FileRow from '../ui/FileRow.svelte';
  import Switch from '../ui/Switch.svelte';
  import { hide, place, tied } from './fields';
  import MaterialFields from './MaterialFields.svelte';
  import ModelFields from './ModelFields.svelte';
  import PathButtons from './PathButtons.svelte';
  import PlaceFields from './PlaceFields.svelte';

  let { desk, matte }: { desk: Desk; matte: Matte } = $props();
  const path = $derived(desk.path);
  /** What is seen of a model. */
  const seen = ['visible', 'tint', 'catches'];
  const without = [
    ...place,
    ...tied.filter((name) => name !== 'kind'),
    'media',
    'width',
    'height',
    'model',
    'look',
    'lit_by',
    ...seen,
  ];
</script>

<Fields {desk} model="Matte" owner={matte} {path} only={['kind']} />
{#if matte.kind === 'file' || matte.kind === 'depth'}
  <FileRow
    {desk}
    label="File"
    media={matte.media}
    at="{path}/media"
    title={matte.kind === 'depth' ? 'The depth of the plate' : 'A file for the matte'}
    edit="File of the matte"
  />
{/if}
<Fields {desk} model="Matte" owner={matte} {path} without={[...without, 'kind']} />
{#if matte.kind === 'shape' && matte.form !== 'path'}
  <Fields {desk} model="Matte" owner={matte} {path} only={['width', 'height']} />
{:else if matte.kind === 'shape'}
  <PathButtons {desk} path="{path}/points" closed />
{/if}
{#if matte.kind === 'model'}
  <ModelFields {desk} model={matte.model} path="{path}/model" />
  <Fields {desk} model="Matte" owner={matte} {path} only={seen} />
  {#if matte.catches.value > 0 || matte.catches.keys.length}
    <Fields {desk} model="Matte" owner={matte} {path} only={['lit_by']} />
  {/if}
  {#if matte.visible}<MaterialFields {desk} look={matte.look} path="{path}/look" />{/if}
{/if}
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
