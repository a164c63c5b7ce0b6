<script lang="ts">
  import type { Force } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Choice from '../ui/Choice.svelte';
  import Fields from '../ui/Fields.svelte';
  import Switch from '../ui/Switch.svelte';
  import PathButtons from './PathButtons.svelte';
  import PlaceFields from './PlaceFields.svelte';
  import { place, tied } from './fields';

  let { desk, force }: { desk: Desk; force: Force } = $props();
  const path = $derived(desk.path);
  const models: Record<Force['kind'], string> = {
    gravity: 'Gravity',
    wind: 'Wind',
    drag: 'Drag',
    turbulence: 'Turbulence',
    displacement: 'Displacement',
    vortex: 'Vortex',
    attractor: 'Attractor',
    follow: 'Follow',
    surface: 'Surface',
    remove: 'Remove',
  };
  const about: Record<Force['kind'], string> = {
    gravity:
      'Pulls everything it reaches the same way, light or heavy. 9.81 m/s² is the Earth’s; point it up for rising heat.',
    wind: 'Moving air: particles take on its speed, the lighter the sooner.',
    drag: 'Takes speed away, and stays calm at any strength. Quadratic drag grows with speed.',
    turbulence:
      'Eddies of air that neither gather nor scatter. The lane of its strength says when in life it sets in.',
    displacement: 'Shifts what is seen, and leaves the motion alone: at 0 everything is where it was.',
    vortex: 'Turns places about its axis; without pull every distance stays as it is.',
    attractor: 'Draws to its place, or pushes away with a strength below 0.',
    follow: 'Leads along its path, and toward it. Drag its points on the picture.',
    surface: 'Something to touch. However fast and small, nothing gets through it.',
    remove: 'Takes particles away inside its zone, or outside it.',
  };
  const placed = $derived(!['gravity', 'wind', 'drag', 'remove'].includes(force.kind));
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

<Switch label="Acts" on={force.on} onset={(on) => desk.set(`${path}/on`, on, 'Switch')} />
<Fields {desk} model={models[force.kind]} owner={force} {path} without={[...place, ...tied]} />
{#if force.kind === 'follow' || (force.kind === 'surface' && force.shape === 'path')}
  <PathButtons {desk} path="{path}/points" closed={force.closed} />
{/if}
<Choice
  label="Where"
  value={force.zone ?? ''}
  items={zones}
  hint="Everywhere, or only in a zone with its falloff."
  onset={(v) => desk.set(`${path}/zone`, v || null, 'Zone')}
/>
<Choice
  label="Its frame"
  value={force.frame}
  items={[
    { value: 'shot', label: 'The shot' },
    { value: 'emitter', label: 'Each emitter' },
  ]}
  hint="Each emitter: its place and turn are meant from the emitter, which it follows."
  onset={(v) => desk.set(`${path}/frame`, v, 'Frame of the force')}
/>
{#if placed}<PlaceFields {desk} owner={force} model={models[force.kind]} {path} />{/if}
<p class="pt-3 text-soft">{about[force.kind]}</p>
<p class="pt-2 text-soft">
  {touched.length ? `Reaches ${touched.join(', ')}.` : 'Reaches nobody yet: mark emitters in the reach.'}
</p>
