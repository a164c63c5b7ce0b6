<script lang="ts">
  import type { Force } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { specs } from '../state/specs.svelte';
  import Choice from '../fields/Choice.svelte';
  import Fields from '../fields/Fields.svelte';
  import Switch from '../fields/Switch.svelte';
  import PlaceFields from './PlaceFields.svelte';
  import { place, tied } from './fields';

  let { desk, force }: { desk: Desk; force: Force } = $props();
  const path = $derived(desk.path);
  const kind = $derived(specs.forces.find((one) => one.kind === force.kind));
  const model = $derived(kind?.model ?? '');
  const zones = $derived([
    { value: '', label: 'Everywhere' },
    ...desk.shot!.zones.map((z) => ({ value: z.id, label: z.name })),
  ]);
  const touched = $derived(
    desk
      .shot!.links.filter((l) => l.force === force.id)
      .map((l) => desk.shot!.emitters.find((e) => e.id === l.emitter)?.name),
  );
</script>

<Switch label="On" on={force.on} onset={(on) => desk.set(`${path}/on`, on, 'Switch')} />
<Fields {desk} {model} owner={force} {path} without={[...place, ...tied]} />
<Choice
  label="Zone"
  value={force.zone ?? ''}
  items={zones}
  hint="Where the force acts: everywhere, or only in a zone with its falloff."
  onset={(v) => desk.set(`${path}/zone`, v || null, 'Zone')}
/>
{#if kind?.framed}
  <Choice
    label="Space"
    value={force.frame}
    items={[
      { value: 'shot', label: 'Shot' },
      { value: 'emitter', label: 'Emitter' },
    ]}
    hint="Emitter: position and rotation are relative to the emitter, and follow it."
    onset={(v) => desk.set(`${path}/frame`, v, 'Space of the force')}
  />
{/if}
{#if kind?.located}<PlaceFields {desk} owner={force} {model} {path} />{/if}
<p class="pt-3 text-soft">{kind?.about}</p>
<p class="pt-2 text-soft">
  {touched.length ? `Acts on ${touched.join(', ')}.` : 'Acts on no emitter yet: mark emitters under Reach.'}
</p>
