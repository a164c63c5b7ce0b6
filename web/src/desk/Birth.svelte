<script lang="ts">
  import type { Emitter } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { specs } from '../state/specs.svelte';
  import Recorded from './Recorded.svelte';
  import Choice from '../fields/Choice.svelte';
  import Fields from '../fields/Fields.svelte';
  import NumberRow from '../fields/NumberRow.svelte';
  import PlainField from '../fields/PlainField.svelte';

  let { desk }: { desk: Desk } = $props();
  const emitter = $derived(desk.emitter);
  const path = $derived(desk.emitterPath);

  const shapes = $derived(specs.shapes.map((one) => ({ value: one.kind, label: one.title })));
  const shape = $derived(specs.shapes.find((one) => one.kind === emitter?.shape.kind));

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
  const rests = $derived(
    specs
      .fields('Emitter')
      .filter((f) => f.panel === 'birth' && (f.name !== 'shape_on' || shape?.sized))
      .map((f) => f.name),
  );
  let more = $state(false);
  const isUsed = (name: string): boolean =>
    emitter !== null &&
    !specs.isInitial('Emitter', name, (emitter as unknown as Record<string, unknown>)[name]);
  /** Fields of births at a rate, which pieces do not have. */
  const atRate = ['born_of', 'cadence', 'start_s', 'end_s', 'delay_s', 'pre_roll_s'];
  const offered = $derived(emitter?.pieces ? rests.filter((name) => !atRate.includes(name)) : rests);
  const used = $derived(offered.filter((name) => name !== 'born_of' && isUsed(name)));
  const unused = $derived(offered.filter((name) => !isUsed(name)));

  function bursts(list: Emitter['bursts'], what: string): void {
    desk.set(`${path}/bursts`, list, `Burst: ${what}`);
  }
</script>

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
      {#if emitter.pieces}
        <p class="py-1 leading-snug text-soft">
          One birth for each piece: at its release, or one lifespan before it arrives. The fronts are set
          under
          <span class="text-word">Pieces</span>.
        </p>
      {:else}
        {#if emitter.born_of}<Fields {...common} only={['born_of', 'born_when']} />{/if}
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
      {/if}
      <NumberRow {...common} field="lifespan" />
      <Choice
        label="Shape"
        value={emitter.shape.kind}
        items={shapes}
        hint="Where particles are born. The outline on the picture shows the exact shape."
        onset={(kind) => desk.set(`${path}/shape`, { kind }, 'Shape')}
      />
      <Fields {desk} model={shape?.model ?? ''} owner={emitter.shape} path="{path}/shape" />
      <NumberRow {...common} field="speed" />
      <Fields {...common} only={['toward', 'direction', 'spread']} />
      <Fields {...common} only={used} />
      {#if unused.length}
        <details class="pt-1" bind:open={more}>
          <summary class="cursor-pointer rounded py-1 text-soft select-none hover:text-word"
            >More settings <span class="text-[11px]">({unused.length})</span></summary
          >
          <Fields {...common} only={unused} />
        </details>
      {/if}
      {#if !emitter.pieces}<Recorded {desk} {emitter} />{/if}
    </div>
  {/if}
{:else}
  <p class="px-3.5 text-soft">Add an emitter to the cast: its birth is set here, its life to the right.</p>
{/if}
