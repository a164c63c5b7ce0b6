<script lang="ts">
  import { Popover } from 'bits-ui';
  import type { DrivenBy, NumberValue } from '../api/client';
  import { switchAll } from '../state/switches';
  import type { Desk } from '../state/desk.svelte';
  import { lists, placedLists } from '../state/scene_items';
  import type { Spec } from '../state/specs.svelte';
  import { specs } from '../state/specs.svelte';
  import { withKey } from '../timeline/keys';
  import Choice from './Choice.svelte';
  import BySound from './BySound.svelte';
  import PlainField from './PlainField.svelte';

  interface Props {
    desk: Desk;
    label: string;
    path: string;
    number: NumberValue;
    spec: Spec;
  }
  let { desk, label, path, number, spec }: Props = $props();
  let open = $state(false);
  /** What of a sound leads, to begin with. */
  const HEARS: DrivenBy['hears'] = {
    what: 'level',
    from_hz: 80,
    to_hz: 160,
    scale: 'linear',
    attack_s: 0.005,
    release_s: 0.2,
    threshold_db: -90,
    curve: null,
  };

  const put = (tail: string, value: unknown, what: string): void =>
    desk.set(`${path}/${tail}`, value, `${label}: ${what}`);
  const title = (text: string): string => text[0]!.toUpperCase() + text.slice(1);
  const items = (values: readonly string[]): { value: string; label: string }[] =>
    values.map((value) => ({ value, label: title(value) }));
  const joins = [
    { value: 'add', label: 'Added' },
    { value: 'multiply', label: 'Multiplied' },
  ];
  type Part = NumberValue['off'][number];
  const off = $derived(number?.off ?? []);
  /** What drives it, each with whether it is there. */
  const parts = $derived(
    (
      [
        ['spread', 'Variation', number.spread > 0],
        ['over life', 'Over life', number.over_life !== null],
        ['keys', 'Keys', number.keys.length > 0],
        ['flutter', 'Flutter', number.flutter !== null],
        ['source', 'Source', number.source !== null],
      ] as [Part, string, boolean][]
    ).filter(([, , there]) => there),
  );
  const lamps = $derived([
    {
      name: 'over life',
      on: number.over_life !== null,
      off: ['over life'],
      colour: 'var(--ice)',
      offered: spec.life,
    },
    { name: 'keys', on: number.keys.length > 0, off: ['keys'], colour: 'var(--dawn)', offered: true },
    {
      name: 'flutter or source',
      on: number.flutter !== null || number.source !== null,
      off: ['flutter', 'source'],
      colour: 'var(--word)',
      offered: true,
    },
  ]);
  const dark = $derived((lamp: { off: string[] }): boolean =>
    off.some((name) => name === 'all' || lamp.off.includes(name)),
  );
  const summary = $derived(
    lamps
      .filter((lamp) => lamp.on)
      .map((lamp) => (dark(lamp) ? `${lamp.name}, switched off` : lamp.name))
      .join(', ') || 'nothing',
  );

  function toggle(name: Part): void {
    const on = off.includes(name);
    put('off', on ? off.filter((one) => one !== name) : [...off, name], on ? `${name} on` : `${name} off`);
  }
  const things = $derived(
    placedLists.flatMap((list) => desk.shot![list].map((thing) => ({ value: thing.id, label: thing.name }))),
  );
  const sounds = $derived(desk.shot!.sounds.map((one) => ({ value: one.id, label: one.name })));
  /** Every number of the cast that may drive this one. */
  const numbers = $derived(
    lists.flatMap((list) =>
      desk.shot![list].flatMap((thing) =>
        Object.entries(thing)
          .filter(([, value]) => typeof value === 'object' && value !== null && 'over_life_to' in value)
          .map(([field]) => ({
            value: `${thing.id}.${field}`,
            label: `${thing.name}: ${field.replaceAll('_', ' ')}`,
          }))
          .filter((one) => desk.pathOf(thing.id) + '/' + one.value.split('.')[1] !== path),
      ),
    ),
  );

  function measure(name: string): void {
    if (name === 'none') {
      put('source', null, 'no source');
      return;
    }
    const thing = name === 'distance' ? things[0]?.value : name === 'number' ? numbers[0]?.value : null;
    const high =
      {
        distance: 300,
        speed: 300,
        'emitter speed': 300,
        plate: 1,
        number: 100,
        'since touch': 1,
        'since caught': 1,
      }[name] ?? 1;
    const made: DrivenBy = {
      measure: name as DrivenBy['measure'],
      thing: thing ?? null,
      sound: name === 'sound' ? sounds[0]!.value : null,
      hears: HEARS,
      low: 0,
      high,
      makes_low: 0,
      makes_high: 1,
      combine: 'multiply',
    };
    put('source', made, 'source');
  }

  function keyHere(): void {
    const value = desk.valueNow(path, { ...number, flutter: null });
    put(
      'keys',
      withKey(number.keys, desk.player.now, Number(value.toFixed(4)), 0.5 / desk.player.fps),
      'key',
    );
    desk.tools.graph = path;
  }

  function second(on: boolean): void {
    put(
      'over_life_to',
      on
        ? {
            points: [
              { at: 0, value: 0.5 },
              { at: 1, value: 0.5 },
            ],
          }
        : null,
      'second curve',
    );
  }
</script>

<Popover.Root bind:open>
  <Popover.Trigger
    class="ml-auto flex h-[22px] items-center gap-[3px] rounded px-[3px] hover:bg-raised"
    aria-label="What drives {label}: {summary}"
    title="What drives it: {summary}"
  >
    {#each lamps as lamp (lamp.name)}
      <span
        class="size-[5px] rounded-full"
        class:opacity-0={!lamp.offered}
        style:background={lamp.on && !dark(lamp) ? lamp.colour : lamp.on ? 'transparent' : 'var(--lamp)'}
        style:box-shadow={lamp.on && dark(lamp) ? `inset 0 0 0 1px ${lamp.colour}` : 'none'}
      ></span>
    {/each}
  </Popover.Trigger>
  <Popover.Portal>
    <Popover.Content
      role="dialog"
      aria-label="Drivers of {label}"
      side="left"
      align="start"
      sideOffset={8}
      collisionPadding={8}
      class="z-60 max-h-[86vh] w-[268px] overflow-y-auto rounded-xl border border-line-strong bg-raised px-3 pt-2 pb-3 shadow-2xl"
    >
      <div class="flex items-center justify-between pb-1">
        <p class="font-semibold">{label}</p>
        <button
          class="button h-6! px-2! text-[11.5px]"
          title="See many values of it side by side (S)"
          aria-label="Sweep {label}"
          onclick={() => {
            open = false;
            desk.tools.sweeping = path;
          }}>Sweep</button
        >
      </div>
      <p class="pb-1.5 text-[11px] leading-snug text-soft">
        Order: value or keys, flutter, source, variation; the over-life curve multiplies the result.
        {spec.clock === 'shot' ? 'Read by shot time.' : ''}
      </p>

      {#if parts.length || off.includes('all')}
        <div class="mb-1 rounded-md bg-well px-2 py-1" role="group" aria-label="Parts of {label}">
          {#each [...parts, ['all', 'All parts', true] as [Part, string, boolean]] as [name, word] (name)}
            {@const on = !off.includes(name)}
            <div class="flex h-[26px] items-center justify-between">
              <button
                class="flex h-6 flex-1 items-center gap-2 text-left"
                role="switch"
                aria-checked={on}
                aria-label="{word} of {label}"
                title={on ? 'Switch off for comparison; its settings stay' : 'Switch on again'}
                onclick={() => toggle(name)}
              >
                <span
                  class="relative h-[13px] w-[24px] rounded-full border border-line-strong {on
                    ? 'bg-aurora'
                    : 'bg-ground'}"
                  ><span
                    class="absolute top-[1px] size-[9px] rounded-full {on
                      ? 'right-[1px] bg-on-aurora'
                      : 'left-[1px] bg-soft'}"
                  ></span></span
                ><span class:line-through={!on} class:text-soft={!on}>{word}</span>
              </button>
              {#if name !== 'all'}
                <button
                  class="h-6 px-1.5 text-[11px] text-soft hover:text-word"
                  title="Switch this driver for every number of the shot"
                  aria-label="{word} of every number: {on ? 'off' : 'on'}"
                  onclick={() => switchAll(desk, name, !on)}>{on ? 'all off' : 'all on'}</button
                >
              {/if}
            </div>
          {/each}
        </div>
      {/if}

      <div class="flex items-center justify-between pt-1">
        <span class="font-semibold text-dawn"
          >Keys{#if number.keys.length}<span class="font-normal">&ensp;{number.keys.length}</span>{/if}</span
        >
        <span class="flex gap-1">
          <button class="button h-6! px-2! text-[11.5px]" onclick={keyHere}>Key at {desk.player.where}</button
          >
          {#if number.keys.length}
            <button
              class="button h-6! px-2! text-[11.5px]"
              onclick={() => {
                desk.tools.graph = path;
                open = false;
              }}>Graph</button
            >
            <button
              class="button h-6! px-2! text-[11.5px]"
              aria-label="Remove all keys of {label}"
              onclick={() => put('keys', [], 'no keys')}>None</button
            >
          {/if}
        </span>
      </div>

      {#if spec.spread}
        <Choice
          label="Distribution"
          value={number.spread_shape}
          items={[
            { value: 'even', label: 'Even' },
            { value: 'bell', label: 'Bell-shaped' },
          ]}
          onset={(v) => put('spread_shape', v, 'spread')}
        />
        <div class="flex h-[26px] items-center justify-between border-b border-line">
          <span>From – to</span>
          <span class="flex items-center gap-1">
            {#each [-1, 1] as side (side)}
              <input
                class="w-[58px] rounded bg-well px-1 text-right"
                aria-label="{label} {side < 0 ? 'from' : 'to'}"
                value={Number((number.value + side * number.spread).toFixed(4))}
                onchange={(e) => {
                  const to = Number(e.currentTarget.value);
                  if (!Number.isFinite(to)) return;
                  const [low, high] =
                    side < 0 ? [to, number.value + number.spread] : [number.value - number.spread, to];
                  desk.change(
                    [
                      { op: 'replace', path: `${path}/value`, value: (low + high) / 2 },
                      { op: 'replace', path: `${path}/spread`, value: Math.abs(high - low) / 2 },
                    ],
                    `${label}: from – to`,
                  );
                }}
              />
            {/each}
          </span>
        </div>
      {/if}

      {#if spec.life}
        <div class="flex h-[30px] items-center justify-between border-b border-line">
          <span class="text-ice">Over life</span>
          <span class="flex gap-1 text-[11.5px]">
            {#if number.over_life}
              <button class="button h-6! px-2!" onclick={() => second(number.over_life_to === null)}
                >{number.over_life_to ? 'One curve' : 'Between two'}</button
              >
              <button
                class="button h-6! px-2!"
                onclick={() =>
                  desk.change(
                    [
                      { op: 'replace', path: `${path}/over_life_to`, value: null },
                      { op: 'replace', path: `${path}/over_life`, value: null },
                    ],
                    `${label}: level`,
                  )}>Level</button
              >
            {:else}
              <button
                class="button h-6! px-2!"
                onclick={() =>
                  put('over_life', specs.presets.curves.find((c) => c.name === 'Swell')?.curve, 'over life')}
                >Edit in its lane</button
              >
            {/if}
          </span>
        </div>
      {/if}

      <Choice
        label="Flutter"
        value={number.flutter ? 'on' : 'none'}
        items={[
          { value: 'none', label: 'None' },
          { value: 'on', label: 'Swings' },
        ]}
        onset={(v) =>
          put(
            'flutter',
            v === 'on'
              ? {
                  times_per_s: 3,
                  amount: Math.max(0.1, Math.abs(number.value) * 0.3),
                  seed: 0,
                  combine: 'add',
                }
              : null,
            'flutter',
          )}
      />
      {#if number.flutter}
        {@const f = number.flutter}
        <PlainField
          label="Frequency"
          unit="/s"
          value={f.times_per_s}
          onset={(v) => put('flutter/times_per_s', v ?? 0, 'flutter')}
        />
        <PlainField
          label="Amplitude"
          unit={f.combine === 'add' ? spec.unit : ''}
          value={f.amount}
          onset={(v) => put('flutter/amount', v ?? 0, 'flutter')}
        />
        <PlainField label="Seed" value={f.seed} onset={(v) => put('flutter/seed', v ?? 0, 'flutter')} />
        <Choice
          label="Combine"
          value={f.combine}
          items={joins}
          onset={(v) => put('flutter/combine', v, 'flutter')}
        />
      {/if}

      {#if spec.sources.length}
        <Choice
          label="Source"
          value={number.source?.measure ?? 'none'}
          items={[
            { value: 'none', label: 'None' },
            ...items(spec.sources.filter((one) => one !== 'sound' || sounds.length > 0)),
          ]}
          onset={measure}
        />
        {#if number.source}
          {@const s = number.source}
          {#if s.measure === 'distance' || s.measure === 'number'}
            <Choice
              label={s.measure === 'distance' ? 'To' : 'Which'}
              value={s.thing ?? ''}
              items={s.measure === 'distance' ? things : numbers}
              onset={(v) => put('source/thing', v, 'source')}
            />
          {/if}
          {#if s.measure === 'sound'}
            <BySound {desk} {path} source={s} {put} />
            <button
              class="my-1 text-[11.5px] text-soft hover:text-word"
              onclick={() => {
                desk.tools.graph = path;
                open = false;
              }}>Show its graph under the waveform</button
            >
          {/if}
          <div class="grid grid-cols-[1fr_58px_14px_58px] items-center gap-y-1 py-1">
            {#each [['From', 'low', 'high'], ['makes', 'makes_low', 'makes_high']] as const as [word, low, high] (word)}
              <span>{word}</span>
              {#each [low, high] as end, i (end)}
                {#if i}<span class="text-center text-soft">…</span>{/if}
                <input
                  class="w-full rounded bg-well px-1 text-right"
                  aria-label="{label} source {end.replace('_', ' ')}"
                  value={s[end]}
                  onchange={(e) => {
                    const value = Number(e.currentTarget.value);
                    if (Number.isFinite(value)) put(`source/${end}`, value, 'source');
                  }}
                />
              {/each}
            {/each}
          </div>
          <Choice
            label="Combine"
            value={s.combine}
            items={joins}
            onset={(v) => put('source/combine', v, 'source')}
          />
        {/if}
      {/if}
      {#if spec.clock === 'age' && (number.keys.length || number.flutter || number.source)}
        <Choice
          label="Read"
          value={number.reads}
          items={[
            { value: 'birth', label: 'At birth' },
            { value: 'life', label: 'Through life' },
          ]}
          hint="At birth: each particle keeps the value of its birth. Through life: all living particles follow it."
          onset={(v) => put('reads', v, 'clock')}
        />
      {/if}
    </Popover.Content>
  </Popover.Portal>
</Popover.Root>
