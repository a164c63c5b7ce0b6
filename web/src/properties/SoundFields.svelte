<script lang="ts">
  import { api, got, type SoundThing, type TapeTimecode } from '../api/client';
  import { notices } from '../state/notices.svelte';
  import { listening } from '../state/listening.svelte';
  import type { Desk } from '../state/desk.svelte';
  import { drivenLines } from '../timeline/driven_lines';
  import DrivenBy from './DrivenBy.svelte';
  import Fields from '../fields/Fields.svelte';

  let { desk, sound }: { desk: Desk; sound: SoundThing } = $props();
  const wave = $derived(listening.waves[sound.id]);
  let tape = $state.raw<TapeTimecode | null>(null);
  async function look(): Promise<void> {
    const path = { shot_id: desk.id, sound_id: sound.id };
    try {
      tape = await got(api.POST('/api/shots/{shot_id}/sounds/{sound_id}/timecode', { params: { path } }));
    } catch (error) {
      notices.trouble(error);
    }
  }
  const driven = $derived(drivenLines(desk.shot!, sound.id));
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
      ? ` · ${wave.tempo.toFixed(1)} beats per minute`
      : ''}
  </p>
{/if}
<div class="flex flex-wrap items-center gap-1.5 pb-2">
  {#if tape?.found}
    <span class="text-soft" data-timecode={tape.text}>Starts at <code>{tape.text}</code>.</span>
    {#if !sound.of_plate}
      <button
        class="button h-6! px-2! text-[11.5px]"
        title="Assumes that the shot starts at the full hour of its timecode"
        onclick={() => desk.set(`${desk.path}/offset_s`, tape!.offset_s, `${sound.name}: at its timecode`)}
        >Move it there</button
      >
    {/if}
  {:else}
    <button class="button h-6! px-2! text-[11.5px]" onclick={() => void look()}>Find timecode</button>
    {#if tape}<span class="text-soft">No timecode found.</span>{/if}
  {/if}
</div>
<DrivenBy
  {desk}
  {driven}
  none="It drives nothing yet: press the lamps beside any number and select Sound under Source, or start a burst at its onsets or beats."
/>
