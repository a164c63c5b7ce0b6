<script lang="ts">
  import ModelFile from '../body/ModelFile.svelte';
  import { upload, type Emitter } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { specs } from '../state/specs.svelte';
  import Recorded from './Recorded.svelte';
  import PathButtons from '../properties/PathButtons.svelte';
  import Choice from '../ui/Choice.svelte';
  import FileButton from '../ui/FileButton.svelte';
  import Fields from '../ui/Fields.svelte';
  import NumberRow from '../ui/NumberRow.svelte';
  import PlainField from '../ui/PlainField.svelte';
  import Switch from '../ui/Switch.svelte';
  import TimeField from '../ui/TimeField.svelte';

  let { desk }: { desk: Desk } = $props();
  const emitter = $derived(desk.emitter);
  const path = $derived(desk.emitterPath);

  const shapes = $derived(specs.shapes.map((one) => ({ value: one.kind, label: one.title })));
  const model = $derived(specs.shapes.find((one) => one.kind === emitter?.shape.kind)?.model ?? '');
  let files = $state<FileButton>();

  function reshape(kind: string): void {
    if (kind === 'artwork') files?.choose();
    else desk.set(`${path}/shape`, { kind }, 'Where from');
  }

  async function artwork(file: File): Promise<void> {
    const id = encodeURIComponent(emitter!.id);
    await upload('POST', `/api/shots/${desk.id}/artwork/${id}?name=${encodeURIComponent(file.name)}`, file);
    await desk.reload();
  }

  const burstFields = [
    ['at_s', 's'],
    ['count', ''],
    ['fill', '%'],
    ['over_s', 's'],
    ['times', ''],
    ['every_s', 's'],
    ['threshold_db', 'dB'],
  ] as const;
  /** Fields that a burst driven by a sound does not use. */
  const ofMoments: string[] = ['at_s', 'times', 'every_s'];

  /** Fields that most emitters leave at their default: each is unfolded once it is used. */
  const RESTS = [
    'born_of',
    'shape_on',
    'spacing',
    'tilt',
    'inherit',
    'in_depth',
    'pre_roll_s',
    'cadence',
    'delay_s',
    'start_s',
    'end_s',
    'limit',
  ] as const;
  type Rest = (typeof RESTS)[number];
  let more = $state(false);
  const applying = $derived(
    RESTS.filter((name) => emitter && (name !== 'shape_on' || emitter.shape.kind !== 'point')),
  );
  const isUsed = (name: Rest): boolean =>
    emitter !== null &&
    !specs.isInitial('Emitter', name, (emitter as unknown as Record<string, unknown>)[name]);
  const used = $derived(applying.filter((name) => name !== 'born_of' && isUsed(name)));
  const unused = $derived(applying.filter((name) => !isUsed(name)));

  function bursts(list: Emitter['bursts'], what: string): void {
    desk.set(`${path}/bursts`, list, `Burst: ${what}`);
  }
</script>

{#snippet rest(name: Rest)}
  {#if emitter}
    {@const common = { desk, path, model: 'Emitter', owner: emitter }}
    {#if name === 'shape_on'}
      <Switch
        label="Shape on"
        on={emitter.shape_on}
        hint="Off: all particles are born at the centre, for comparison."
        onset={(on) => desk.set(`${path}/shape_on`, on, on ? 'Shape on' : 'Shape off')}
      />
    {:else if name === 'pre_roll_s'}
      <PlainField
        label="Pre-roll"
        value={emitter.pre_roll_s}
        unit="s"
        hint="Seconds of births before the start, so that particles are visible on the first frame."
        onset={(v) => desk.set(`${path}/pre_roll_s`, v ?? 0, 'Pre-roll')}
      />
    {:else if name === 'cadence'}
      <Choice
        label="Cadence"
        value={emitter.cadence}
        items={[
          { value: 'jittered', label: 'Jittered' },
          { value: 'even', label: 'Even' },
          { value: 'random', label: 'Random' },
        ]}
        hint="Even: equal intervals. Jittered: a random moment in each interval. Random: a Poisson process."
        onset={(v) => desk.set(`${path}/cadence`, v, 'Cadence')}
      />
    {:else if name === 'delay_s'}
      <TimeField
        {desk}
        label="Delay"
        value={emitter.delay_s}
        hint="Delays all births and bursts."
        onset={(v) => desk.set(`${path}/delay_s`, v ?? 0, 'Delay')}
      />
    {:else if name === 'start_s'}
      <TimeField
        {desk}
        label="Start"
        value={emitter.start_s}
        moment
        onset={(v) => desk.set(`${path}/start_s`, v ?? 0, 'Start')}
      />
    {:else if name === 'end_s'}
      <TimeField
        {desk}
        label="Stop"
        value={emitter.end_s}
        moment
        none="never"
        onset={(v) => desk.set(`${path}/end_s`, v, 'Stop')}
      />
    {:else if name === 'limit'}
      <PlainField
        label="Particle limit"
        value={emitter.limit}
        onset={(v) => desk.set(`${path}/limit`, v ?? 0, 'Limit')}
      />
    {:else}
      <Fields {...common} only={[name]} />
    {/if}
  {/if}
{/snippet}

<div class="head">
  <span
    >Birth{#if emitter && !desk.chosenEmitter}<span class="font-normal">&ensp;of {emitter.name}</span
      >{/if}</span
  ><small>read at birth</small>
</div>
{#if emitter}
  {@const common = { desk, path, model: 'Emitter', owner: emitter }}
  {#if emitter.recording}
    <div class="px-3.5 pb-3"><Recorded {desk} {emitter} /></div>
  {:else}
    <div class="px-3.5 pb-3">
      {#if emitter.born_of}{@render rest('born_of')}<Fields {...common} only={['born_when']} />{/if}
      {#if emitter.born_of && emitter.born_when !== 'in flight'}
        <Fields {...common} only={['born_count']} />
      {:else}
        <NumberRow
          {...common}
          field="rate"
          unit={{ second: '/s', frame: '/frame', px: '/px' }[emitter.rate_per]}
        />
        <Fields {...common} only={['rate_per']} />
      {/if}
      {#each emitter.bursts as burst, i (i)}
        <div class="flex items-center justify-between pt-2 text-dawn">
          <span>Burst {i + 1}</span>
          <button
            class="text-[11.5px] text-soft hover:text-word"
            aria-label="Remove burst {i + 1}"
            onclick={() =>
              bursts(
                emitter.bursts.filter((_, j) => j !== i),
                'away',
              )}>remove</button
          >
        </div>
        {#if desk.shot!.sounds.length}
          <Choice
            label="When"
            value={burst.sound ? `${burst.sound} ${burst.on}` : ''}
            items={[
              { value: '', label: 'At moments' },
              ...desk.shot!.sounds.flatMap((s) =>
                ['onsets', 'beats'].map((on) => ({
                  value: `${s.id} ${on}`,
                  label: `${on === 'onsets' ? 'Onsets' : 'Beats'} of ${s.name}`,
                })),
              ),
            ]}
            onset={(v) => {
              const [sound, on] = v.split(' ');
              const at = `${path}/bursts/${i}`;
              desk.change(
                [
                  { op: 'replace', path: `${at}/sound`, value: sound || null },
                  { op: 'replace', path: `${at}/on`, value: on ?? 'onsets' },
                ],
                'Burst time',
              );
            }}
          />
        {/if}
        {#each burstFields.filter( ([field]) => (burst.sound ? !ofMoments.includes(field) : field !== 'threshold_db') ) as [field, unit] (field)}
          {@const label = specs.label('Burst', field)}
          <PlainField
            {label}
            {unit}
            value={burst[field]}
            onset={(v) => v !== null && desk.set(`${path}/bursts/${i}/${field}`, v, `Burst: ${label}`)}
          />
        {/each}
      {/each}
      <button
        class="button mt-2 h-6! px-2! text-[11.5px]"
        onclick={() =>
          bursts(
            [
              ...emitter.bursts,
              {
                at_s: Number(desk.player.now.toFixed(3)),
                count: 200,
                fill: 0,
                over_s: 0.1,
                times: 1,
                every_s: 1,
                sound: null,
                on: 'onsets',
                threshold_db: -90,
              },
            ],
            'more',
          )}>Burst at {desk.player.where}</button
      >
      <NumberRow {...common} field="lifespan" />
      <Choice
        label="Shape"
        value={emitter.shape.kind}
        items={shapes}
        hint="Where particles are born. The outline on the picture shows the exact shape."
        onset={reshape}
      />
      <FileButton bind:this={files} label="SVG artwork" accept=".svg,image/svg+xml" ontake={artwork} />
      <Fields
        {desk}
        {model}
        owner={emitter.shape}
        path="{path}/shape"
        without={['kind', 'name', 'media', 'digest']}
      />
      {#if 'points' in emitter.shape && emitter.shape.points}
        <PathButtons {desk} path="{path}/shape/points" closed={emitter.shape.closed} />
      {:else if emitter.shape.kind === 'model' && emitter.shape.form === 'file'}
        <ModelFile {desk} owner={emitter.shape} path="{path}/shape" />
      {:else if emitter.shape.kind === 'artwork'}
        <button class="button my-1.5 h-6! px-2! text-[11.5px]" onclick={() => files?.choose()}
          >Replace drawing …</button
        >
      {/if}
      <NumberRow {...common} field="speed" />
      <Fields {...common} only={['toward', 'direction', 'spread']} />
      {#each used as name (name)}{@render rest(name)}{/each}
      {#if unused.length}
        <details class="pt-1" bind:open={more}>
          <summary class="cursor-pointer rounded py-1 text-soft select-none hover:text-word"
            >More settings <span class="text-[11px]">({unused.length})</span></summary
          >
          {#each unused as name (name)}{@render rest(name)}{/each}
        </details>
      {/if}
      <Recorded {desk} {emitter} />
    </div>
  {/if}
{:else}
  <p class="px-3.5 text-soft">Add an emitter to the cast: its birth is set here, its life to the right.</p>
{/if}
