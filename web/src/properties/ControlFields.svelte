<script lang="ts">
  import type { ControlThing } from '../api/client';
  import { arriving } from '../state/arriving.svelte';
  import type { Desk } from '../state/desk.svelte';
  import { drivenLines } from '../timeline/driven_lines';
  import Fields from '../fields/Fields.svelte';
  import Section from '../ui/Section.svelte';
  import Switch from '../fields/Switch.svelte';
  import DrivenBy from './DrivenBy.svelte';

  let { desk, control }: { desk: Desk; control: ControlThing } = $props();
  const path = $derived(desk.path);
  const driven = $derived(drivenLines(desk.shot!, control.id));
  const live = $derived(arriving.valueOf(control));
  const now = $derived(desk.valueNow(`${path}/value`, control.value));
  const learning = $derived(arriving.learning === control.id);
  const following = $derived(arriving.following.includes(control.id));
  $effect(() => arriving.look(desk));
  // A take ends where the range does.
  let last = $state(-Infinity);
  $effect(() => {
    const frame = desk.player.frame;
    const [from, to] = desk.player.range;
    // At the loop's start; a late picture may be slightly earlier than the last one.
    if (arriving.take && (frame < last - (to - from) / 2 || !desk.player.playing)) void arriving.stop(desk);
    last = arriving.take ? frame : -Infinity;
  });
</script>

<Fields {desk} model="Control" owner={control} {path} only={['value']} />
<div
  class="relative my-2 h-2 rounded-full bg-well"
  role="meter"
  aria-label="Current value"
  aria-valuemin="0"
  aria-valuemax="1"
  aria-valuenow={Number(now.toFixed(3))}
>
  <span class="absolute inset-y-0 left-0 rounded-full bg-ice" style="width:{100 * now}%"></span>
  {#if live !== null}<span
      class="absolute -top-1 h-4 w-[2.5px] rounded bg-dawn"
      style="left:calc({100 * live}% - 1px)"
    ></span>{/if}
</div>
<Section title="Comes from" first about={control.comes_from.address || 'your hand'}>
  <Fields {desk} model="Incoming" owner={control.comes_from} path="{path}/comes_from" />
  <div class="flex flex-wrap gap-1.5 py-1.5">
    <button
      class="button h-6! px-2! text-[11.5px]"
      aria-pressed={learning}
      onclick={() => arriving.begin(learning ? null : control.id)}
      >{learning ? 'Move it now …' : 'Learn'}</button
    >
    <button
      class="button h-6! px-2! text-[11.5px] {arriving.take ? 'border-dawn! text-dawn!' : ''}"
      aria-pressed={arriving.take !== null}
      disabled={!control.comes_from.address && !arriving.take}
      title="Plays, and records incoming values as keys for all controls with an address"
      onclick={() => arriving.record(desk)}>{arriving.take ? 'End the take' : 'Record a take'}</button
    >
  </div>
  <Switch
    label="Follow"
    on={following}
    hint="It follows its address and keeps the last value. Keys take precedence."
    onset={(on) =>
      (arriving.following = on
        ? [...arriving.following, control.id]
        : arriving.following.filter((id) => id !== control.id))}
  />
  <p class="py-2 leading-snug text-soft" data-arrivals>
    {#if !arriving.now?.port}
      OSC is not listened to here: another studio has the port. <code>ISBJORN_OSC</code> chooses another.
    {:else}
      OSC at {arriving.now.host}, UDP port {arriving.now.port}. {arriving.now.arrived.length
        ? `Last: ${arriving.now.arrived[0]!.address} ${arriving.now.arrived[0]!.value.toFixed(3)}.`
        : 'No value has arrived yet.'}
      {arriving.now.bad ? `${arriving.now.bad} invalid packets.` : ''}
    {/if}
    {arriving.now?.midi.length ? `MIDI: ${arriving.now.midi.join(', ')}.` : ''}
  </p>
  <div class="flex flex-wrap gap-1.5 pb-1.5">
    <button
      class="button h-6! px-2! text-[11.5px]"
      title="On-screen faders, pads, keys and a walker, in place of devices"
      onclick={() => window.open('/faders', 'faders', 'width=1120,height=640')}>Fader desk …</button
    >
    <button
      class="button h-6! px-2! text-[11.5px]"
      title="Runs live from incoming values in a new window; K saves a take"
      onclick={() => window.open(`/stage/${desk.id}`, `stage-${desk.id}`)}>Perform on the stage …</button
    >
  </div>
</Section>
<DrivenBy
  {desk}
  {driven}
  none="It drives nothing yet: press the lamps beside any number and select Number under Source."
/>
