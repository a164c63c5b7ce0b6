<script lang="ts">
  import type { Force } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import NumberRow from '../ui/NumberRow.svelte';
  import Switch from '../ui/Switch.svelte';

  let { desk, force }: { desk: Desk; force: Force } = $props();
  const path = $derived(desk.path);
  const about = {
    gravity:
      'Pulls everything it reaches the same way, light or heavy. 9.81 m/s² is the Earth’s; point it up for rising heat.',
    drag: 'Takes speed away in proportion to speed, and stays calm at any strength.',
  };
  const touched = $derived(
    desk
      .shot!.links.filter((l) => l.force === force.id)
      .map((l) => desk.shot!.emitters.find((e) => e.id === l.emitter)?.name),
  );
</script>

<Switch label="Acts" on={force.on} onset={(on) => desk.set(`${path}/on`, on, 'Switch')} />
{#if force.kind === 'gravity'}
  <NumberRow {desk} label="Strength" model="Gravity" owner={force} {path} field="strength" />
  <NumberRow {desk} label="Direction" model="Gravity" owner={force} {path} field="direction" />
{:else}
  <NumberRow {desk} label="Strength" model="Drag" owner={force} {path} field="strength" />
{/if}
<p class="pt-3 text-soft">{about[force.kind]}</p>
<p class="pt-2 text-soft">
  {touched.length ? `Reaches ${touched.join(', ')}.` : 'Reaches nobody yet: mark emitters in the reach.'}
</p>
