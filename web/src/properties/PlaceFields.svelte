<script lang="ts">
  import type { Placed } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { placedChoices } from '../state/scene_items';
  import { withKey } from '../timeline/keys';
  import Choice from '../fields/Choice.svelte';
  import Fields from '../fields/Fields.svelte';
  import Icon from '../ui/Icon.svelte';
  import NumberRow from '../fields/NumberRow.svelte';
  import Switch from '../fields/Switch.svelte';
  import PathButtons from './PathButtons.svelte';
  import Section from '../ui/Section.svelte';
  import Tracking from './Tracking.svelte';
  import { place } from './fields';

  interface Props {
    desk: Desk;
    owner: Placed;
    model: string;
    path: string;
    /** The heading above says it already. */
    untitled?: boolean;
  }
  let { desk, owner, model, path, untitled = false }: Props = $props();
  const carriers = $derived([{ value: '', label: 'Nothing' }, ...placedChoices(desk.shot!, owner.id)]);
  const switches = [
    ['carry_place', 'Follow position'],
    ['carry_turn', 'Follow rotation'],
    ['carry_size', 'Follow scale'],
  ] as const;

  /** A key of the whole place at the playhead. */
  function keyPlace(): void {
    const changes = (['across', 'up', 'depth'] as const).map((field) => {
      const value = desk.valueNow(`${path}/${field}`, { ...owner[field], flutter: null });
      const keys = withKey(
        owner[field].keys,
        desk.player.now,
        Number(value.toFixed(4)),
        0.5 / desk.player.fps,
      );
      return { op: 'replace' as const, path: `${path}/${field}/keys`, value: keys };
    });
    desk.change(changes, 'Position key');
    desk.tools.graph = `${path}/across`;
  }

  function newPath(): void {
    const points = [
      { x: 0, y: 0, z: 0, arrive: [0, 0], leave: [90, 60] },
      { x: 260, y: 0, z: 0, arrive: [-90, 60], leave: [0, 0] },
    ];
    const end = Number(((desk.shot!.last_frame - desk.shot!.first_frame + 1) / desk.player.fps).toFixed(3));
    const keys = [
      { at_s: 0, value: 0 },
      { at_s: end, value: 100 },
    ];
    desk.set(`${path}/path`, { points, along: { value: 0, keys } }, 'Path');
  }
</script>

{#if !untitled}<div class="group-name">Place</div>{/if}
<Fields {desk} {model} {owner} {path} only={place} />
<Choice
  label="Attached to"
  value={owner.carried_by ?? ''}
  items={carriers}
  hint="Attaches it to another thing, so that a source can be exchanged without losing its motion."
  onset={(v) => desk.set(`${path}/carried_by`, v || null, 'Attached to')}
/>
{#if owner.carried_by}
  {#each switches as [field, label] (field)}
    <Switch {label} on={owner[field]} onset={(on) => desk.set(`${path}/${field}`, on, label)} />
  {/each}
{/if}
{#if owner.path?.along?.keys}
  <NumberRow
    {desk}
    label="Along the path"
    model="MotionPath"
    owner={owner.path}
    path="{path}/path"
    field="along"
  />
  <Switch
    label="Turns along the path"
    on={owner.path.turns}
    onset={(on) => desk.set(`${path}/path/turns`, on, 'Turns along the path')}
  />
  <Switch
    label="Closed"
    on={owner.path.closed}
    onset={(on) => desk.set(`${path}/path/closed`, on, 'Closed path')}
  />
  <PathButtons {desk} path="{path}/path/points" closed={owner.path.closed} />
{/if}
<div class="flex flex-wrap gap-1.5 pt-2">
  <button class="button h-6! px-2! text-[11.5px]" onclick={keyPlace}
    >Key position at {desk.player.where}</button
  >
  {#if owner.path}
    <button
      class="button h-6! px-2! text-[11.5px]"
      onclick={() => desk.set(`${path}/path`, null, 'Remove path')}>Remove path</button
    >
  {:else}
    <button class="button h-6! px-2! text-[11.5px]" onclick={newPath}>Add motion path</button>
  {/if}
  <button
    class="button h-6! px-2! text-[11.5px]"
    aria-pressed={desk.tools.recording === owner.id}
    title="Then hold the pointer on the picture and follow something during playback."
    onclick={() => (desk.tools.recording = desk.tools.recording === owner.id ? null : owner.id)}
    ><span class="text-dawn"><Icon name="record" size={11} filled /></span> Record motion</button
  >
</div>
<div class="pt-2">
  <Section title="Follow the plate" about={desk.tools.followed?.thing === owner.id ? 'tracked' : ''}>
    <Tracking {desk} {owner} />
  </Section>
</div>

<style>
  .group-name {
    padding: 9px 0 3px;
    color: var(--soft);
  }
</style>
