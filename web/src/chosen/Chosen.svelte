<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import EmitterFields from './EmitterFields.svelte';
  import ForceFields from './ForceFields.svelte';
  import PlateFields from './PlateFields.svelte';
  import ShotFields from './ShotFields.svelte';

  let { desk, onplate }: { desk: Desk; onplate: () => void } = $props();
  const words = { shot: 'the whole shot', plate: 'plate', emitter: 'emitter', force: 'force' };
  const name = $derived(
    desk.chosenEmitter?.name ??
      desk.force?.name ??
      (desk.chosen.kind === 'plate' ? (desk.shot?.plate?.name ?? 'Plate') : 'Shot'),
  );
</script>

<div class="head"><span class="truncate text-word">{name}</span><small>{words[desk.chosen.kind]}</small></div>
<div class="px-3.5 pb-3">
  {#if desk.chosenEmitter}
    <EmitterFields {desk} emitter={desk.chosenEmitter} />
  {:else if desk.force}
    <ForceFields {desk} force={desk.force} />
  {:else if desk.chosen.kind === 'plate' && desk.shot?.plate}
    <PlateFields {desk} plate={desk.shot.plate} {onplate} />
  {:else}
    <ShotFields {desk} />
  {/if}
</div>
