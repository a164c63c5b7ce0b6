<script lang="ts">
  import type { Group } from '../api/client';
  import SkinPicker from '../body/SkinPicker.svelte';
  import Finish from '../finish/Finish.svelte';
  import UseFields from '../finish/UseFields.svelte';
  import type { Desk } from '../state/desk.svelte';
  import Fields from '../fields/Fields.svelte';
  import Section from '../ui/Section.svelte';
  import Switch from '../fields/Switch.svelte';
  import { finishAbout } from '../finish/kinds';

  let { desk, group }: { desk: Desk; group: Group } = $props();
  const path = $derived(desk.path);
</script>

<p class="pb-1.5 text-soft">
  Members are drawn in order onto one layer, at the cast position of the first. The layer has its own effects
  and blend mode.
</p>
{#each desk.shot!.emitters as emitter, i (emitter.id)}
  <Switch
    label={emitter.name}
    on={emitter.group === group.id}
    onset={(on) => desk.set(`/emitters/${i}/group`, on ? group.id : null, 'Group')}
  />
{/each}
<div class="pt-2"></div>
<Section title="Skin" about={group.skin ? group.skin.material : ''}>
  <Switch
    label="Skin"
    hint="One smooth surface over the particles of all members instead of their bodies: a liquid."
    on={group.skin !== null}
    onset={(on) => desk.set(`${path}/skin`, on ? {} : null, on ? 'Skin' : 'No skin')}
  />
  {#if group.skin}
    <SkinPicker {desk} path="{path}/skin" />
    <Fields {desk} model="Skin" owner={group.skin} path="{path}/skin" />
  {/if}
</Section>
<Section title="Effects" about={finishAbout(group.finish)}>
  <Finish {desk} steps={group.finish} path="{path}/finish" about="Effects on the layer of all members." />
</Section>
<Section title="Compositing" first>
  <Fields {desk} model="Group" owner={group} {path} only={['blend']} />
  <UseFields {desk} use={group.use} owner={group.id} path="{path}/use" />
</Section>
