<script lang="ts">
  import type { SoundThing } from '../api/client';
  import { listening } from '../state/listening.svelte';
  import type { Desk } from '../state/desk.svelte';
  import { ledBy } from '../strip/led';
  import Led from './Led.svelte';
  import Fields from '../ui/Fields.svelte';

  let { desk, sound }: { desk: Desk; sound: SoundThing } = $props();
  const wave = $derived(listening.waves[sound.id]);
  const led = $derived(ledBy(desk.shot!, sound.id));
</script>

<Fields
  {desk}
  model="Sound"
  owner={sound}
  path={desk.path}
  only={sound.of_plate ? ['heard', 'gain_db'] : ['heard', 'offset_s', 'gain_db']}
/>
{#if wave}
  <p class="py-2 leading-snug text-soft" data-heard>
    {wave.seconds.toFixed(1)} s · {wave.onsets.length}
    {wave.onsets.length === 1 ? 'onset' : 'onsets'} within the shot{wave.tempo
      ? ` · ${wave.tempo.toFixed(1)} beats a minute`
      : ''}
  </p>
{/if}
<Led
  {desk}
  {led}
  none="It leads nothing yet: press the lamps beside any number, and choose Sound under Source; or let a burst be born at its onsets or beats."
/>
