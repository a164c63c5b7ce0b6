<script lang="ts">
  import type { ControlThing, Group, Lamp, Marker, Matte, SoundThing, Take, Zone } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Fields from '../fields/Fields.svelte';
  import { place, tied } from './fields';
  import ControlFields from './ControlFields.svelte';
  import EmitterFields from './EmitterFields.svelte';
  import ForceFields from './ForceFields.svelte';
  import GroupFields from './GroupFields.svelte';
  import LightFields from './LightFields.svelte';
  import MatteFields from './MatteFields.svelte';
  import PlaceFields from './PlaceFields.svelte';
  import PlateFields from './PlateFields.svelte';
  import ShotFields from './ShotFields.svelte';
  import SoundFields from './SoundFields.svelte';
  import TakeFields from './TakeFields.svelte';

  let { desk, onplate }: { desk: Desk; onplate: () => void } = $props();
  const words = {
    shot: 'the whole shot',
    plate: 'plate',
    emitter: 'emitter',
    force: 'world',
    zone: 'zone',
    marker: 'marker',
    light: 'light',
    matte: 'matte',
    group: 'group',
    sound: 'sound',
    control: 'control',
    take: 'take',
  };
  const name = $derived(
    desk.thing?.name ?? (desk.selection.kind === 'plate' ? (desk.shot?.plate?.name ?? 'Plate') : 'Shot'),
  );
  const uses = $derived(
    desk.shot!.forces.filter((f) => f.zone !== null && f.zone === desk.thing?.id).map((f) => f.name),
  );
</script>

<div class="head">
  <span class="truncate text-word">{name}</span>
  <span class="flex flex-none items-center gap-2">
    {#if desk.selection.kind === 'emitter' || desk.selection.kind === 'group'}
      {@const id = desk.selection.id}
      <button
        class="rounded border border-line-strong px-1.5 text-[11.5px] font-normal text-word hover:bg-raised"
        title="Other looks like this one, side by side (X)"
        onclick={() => (desk.tools.varying = id)}>Variations</button
      >
    {/if}
    <small>{words[desk.selection.kind]}</small>
  </span>
</div>
<div class="px-3.5 pb-3">
  {#key desk.path}
    {#if desk.chosenEmitter}
      <EmitterFields {desk} emitter={desk.chosenEmitter} />
    {:else if desk.force}
      <ForceFields {desk} force={desk.force} />
    {:else if desk.selection.kind === 'zone' && desk.thing}
      {@const zone = desk.thing as Zone}
      <Fields {desk} model="Zone" owner={zone} path={desk.path} without={[...place, ...tied]} />
      <PlaceFields {desk} owner={zone} model="Zone" path={desk.path} />
      <p class="pt-3 text-soft">
        {uses.length
          ? `${uses.join(', ')} ${uses.length > 1 ? 'act' : 'acts'} only in this zone: fully inside the inner line, fading to 0 at the outer line.`
          : 'No force uses it yet: select it under “Zone” of a force.'}
      </p>
    {:else if desk.selection.kind === 'marker' && desk.thing}
      <PlaceFields {desk} owner={desk.thing as Marker} model="Marker" path={desk.path} />
      <p class="pt-3 text-soft">
        A named position: other things can be attached to it, and the distance to it can drive numbers.
      </p>
    {:else if desk.selection.kind === 'light' && desk.thing}
      <LightFields {desk} lamp={desk.thing as Lamp} />
    {:else if desk.selection.kind === 'matte' && desk.thing}
      <MatteFields {desk} matte={desk.thing as Matte} />
    {:else if desk.selection.kind === 'group' && desk.thing}
      <GroupFields {desk} group={desk.thing as Group} />
    {:else if desk.selection.kind === 'sound' && desk.thing}
      <SoundFields {desk} sound={desk.thing as SoundThing} />
    {:else if desk.selection.kind === 'control' && desk.thing}
      <ControlFields {desk} control={desk.thing as ControlThing} />
    {:else if desk.selection.kind === 'take' && desk.thing}
      <TakeFields {desk} take={desk.thing as Take} />
    {:else if desk.selection.kind === 'plate' && desk.shot?.plate}
      <PlateFields {desk} plate={desk.shot.plate} {onplate} />
    {:else}
      <ShotFields {desk} />
    {/if}
  {/key}
</div>
