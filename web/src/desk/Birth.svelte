<script lang="ts">
  import type { Emitter } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Choice from '../ui/Choice.svelte';
  import NumberRow from '../ui/NumberRow.svelte';
  import PlainField from '../ui/PlainField.svelte';
  import Switch from '../ui/Switch.svelte';

  let { desk }: { desk: Desk } = $props();
  const emitter = $derived(desk.emitter);
  const path = $derived(desk.emitterPath);

  const shapes = [
    { value: 'point', label: 'Point' },
    { value: 'line', label: 'Line' },
    { value: 'disc', label: 'Disc' },
    { value: 'disc edge', label: 'Ring' },
    { value: 'rectangle', label: 'Rectangle' },
    { value: 'rectangle edge', label: 'Frame' },
  ];
  const measures: Record<string, [string, string][]> = {
    point: [],
    line: [
      ['length', 'Length'],
      ['angle', 'Turn'],
    ],
    disc: [['radius', 'Radius']],
    rectangle: [
      ['width', 'Width'],
      ['height', 'Height'],
      ['angle', 'Turn'],
    ],
  };
  const models: Record<string, string> = { line: 'Line', disc: 'Disc', rectangle: 'Rectangle' };

  function shapeName(e: Emitter): string {
    return 'fill' in e.shape && e.shape.fill === 'edge' ? `${e.shape.kind} edge` : e.shape.kind;
  }

  function reshape(name: string): void {
    const [kind, edge] = name.split(' ');
    const now = emitter!.shape;
    if (kind === now.kind) desk.set(`${path}/shape/fill`, edge ? 'edge' : 'inside', 'Where from');
    else
      desk.set(
        `${path}/shape`,
        kind === 'disc' || kind === 'rectangle' ? { kind, fill: edge ? 'edge' : 'inside' } : { kind },
        'Where from',
      );
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
  <div class="px-3.5 pb-3">
    <NumberRow {...common} label="Birth rate" field="rate" />
    <NumberRow {...common} label="Lifespan" field="lifespan" />
    <Choice
      label="From"
      value={shapeName(emitter)}
      items={shapes}
      hint="Where particles are born; the outline on the picture is exactly it."
      onset={reshape}
    />
    {#each measures[emitter.shape.kind] ?? [] as [field, label] (field)}
      {#if field in emitter.shape}
        <NumberRow
          {desk}
          {label}
          model={models[emitter.shape.kind]!}
          owner={emitter.shape}
          path="{path}/shape"
          {field}
        />
      {/if}
    {/each}
    <NumberRow {...common} label="Speed" field="speed" />
    <NumberRow {...common} label="Direction" field="direction" />
    <NumberRow {...common} label="Spread" field="spread" />
    <PlainField
      label="Pre-roll"
      value={emitter.pre_roll_s}
      unit="s"
      hint="Seconds of births before the start, so that they are in the air on the first frame."
      onset={(v) => desk.set(`${path}/pre_roll_s`, v ?? 0, 'Pre-roll')}
    />
    <Switch
      label="Fan in depth"
      on={emitter.in_depth}
      hint="Even over a cone, not over an arc."
      onset={(on) => desk.set(`${path}/in_depth`, on, 'Fan in depth')}
    />
    <Choice
      label="Cadence"
      value={emitter.cadence}
      items={[
        { value: 'jittered', label: 'Jittered' },
        { value: 'even', label: 'Even' },
        { value: 'random', label: 'Random' },
      ]}
      hint="Even: same gaps. Jittered: anywhere in its own gap. Random: a Poisson stream."
      onset={(v) => desk.set(`${path}/cadence`, v, 'Cadence')}
    />
    <PlainField
      label="Start"
      value={emitter.start_s}
      unit="s"
      onset={(v) => desk.set(`${path}/start_s`, v ?? 0, 'Start')}
    />
    <PlainField
      label="Stop"
      value={emitter.end_s}
      unit="s"
      none="never"
      onset={(v) => desk.set(`${path}/end_s`, v, 'Stop')}
    />
    <PlainField
      label="Alive at most"
      value={emitter.limit}
      onset={(v) => desk.set(`${path}/limit`, v ?? 0, 'Limit')}
    />
  </div>
{:else}
  <p class="px-3.5 text-soft">Add an emitter to the cast: its birth stands here, its life to the right.</p>
{/if}
