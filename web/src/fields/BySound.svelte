<script lang="ts">
  import type { DrivenBy } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Choice from './Choice.svelte';
  import Fields from './Fields.svelte';

  /** What of which sound drives a number, at a path. */
  interface Props {
    desk: Desk;
    path: string;
    source: DrivenBy;
    put: (tail: string, value: unknown, what: string) => void;
  }
  let { desk, path, source, put }: Props = $props();
  const hears = $derived(source.hears);
  const sounds = $derived(desk.shot!.sounds.map((one) => ({ value: one.id, label: one.name })));
  /** Response to the sound's level, between its lowest and its highest value. */
  const responses: { value: string; label: string; points: [number, number][] | null }[] = [
    { value: 'straight', label: 'Straight', points: null },
    {
      value: 'late',
      label: 'Late',
      points: [
        [0, 0],
        [0.5, 0.2],
        [1, 1],
      ],
    },
    {
      value: 'early',
      label: 'Early',
      points: [
        [0, 0],
        [0.5, 0.8],
        [1, 1],
      ],
    },
    {
      value: 'gate',
      label: 'Gate at half',
      points: [
        [0, 0],
        [0.45, 0],
        [0.55, 1],
        [1, 1],
      ],
    },
  ];
  const current = $derived(JSON.stringify(hears.curve?.points.map((p) => [p.at, p.value]) ?? null));
  const chosen = $derived(responses.find((one) => JSON.stringify(one.points) === current)?.value ?? 'own');
</script>

<Choice
  label="Which"
  value={source.sound ?? ''}
  items={sounds}
  onset={(v) => put('source/sound', v, 'source')}
/>
<Fields
  {desk}
  model="Hearing"
  owner={hears}
  path="{path}/source/hears"
  without={hears.what === 'onsets' || hears.what === 'beats' ? ['curve', 'scale', 'attack_s'] : ['curve']}
/>
<Choice
  label="Response"
  value={chosen}
  items={chosen === 'own' ? [...responses, { value: 'own', label: 'Its own curve' }] : responses}
  hint="Output over the input range."
  onset={(v) => {
    const points = responses.find((one) => one.value === v)?.points;
    if (points !== undefined)
      put(
        'source/hears/curve',
        points && { points: points.map(([at, value]) => ({ at, value })) },
        'response',
      );
  }}
/>
