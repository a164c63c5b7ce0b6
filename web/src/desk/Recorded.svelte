<script lang="ts">
  import type { Emitter } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { POINTS, takePoints } from '../properties/points';
  import FileButton from '../fields/FileButton.svelte';
  import PlainField from '../fields/PlainField.svelte';
  import TimeField from '../fields/TimeField.svelte';

  /** Motion out of a file: what of it can be changed, or how to take one. */
  let { desk, emitter }: { desk: Desk; emitter: Emitter } = $props();
  const path = $derived(desk.emitterPath);
  const take = (_: File, all: File[]): Promise<void> => takePoints(desk, all, emitter.id);
</script>

{#if emitter.recording}
  <p class="py-1 leading-snug text-soft">
    Births, lives and paths come from <span class="text-word">{emitter.recording.name || 'a file'}</span>. Its
    place, turn and size set them into the shot; forces do not move them. Looks are its own.
  </p>
  <TimeField
    {desk}
    label="Start"
    value={emitter.recording.at_s}
    hint="Shot time of the recording’s own second 0."
    onset={(v) => desk.set(`${path}/recording/at_s`, v ?? 0, 'Recording starts')}
  />
  <PlainField
    label="Particle limit"
    value={emitter.limit}
    onset={(v) => desk.set(`${path}/limit`, v ?? 0, 'Limit')}
  />
  <div class="flex flex-wrap gap-1.5 py-1.5">
    <FileButton text="Replace recording …" label="Recorded particles" accept={POINTS} many ontake={take} />
    <button
      class="button h-6! px-2! text-[11.5px]"
      onclick={() => desk.set(`${path}/recording`, null, 'Simulated motion')}>Simulated motion</button
    >
  </div>
{:else}
  <div class="pt-2">
    <FileButton text="Motion from a file …" label="Recorded particles" accept={POINTS} many ontake={take} />
  </div>
{/if}
