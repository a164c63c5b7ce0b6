<script lang="ts">
  import { got, api, type Emitter } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { placedChoices } from '../state/scene_items';
  import { notices } from '../state/notices.svelte';
  import Choice from '../fields/Choice.svelte';
  import Fields from '../fields/Fields.svelte';
  import { sentence } from '../ui/words';
  import Tints from './Tints.svelte';

  let { desk, emitter, path }: { desk: Desk; emitter: Emitter; path: string } = $props();
  const common = $derived({ desk, path, model: 'Emitter', owner: emitter });
  const by: Emitter['colour_by'][] = [
    'age',
    'birth moment',
    'random',
    'speed',
    'distance',
    'plate',
    'source',
    'since touch',
    'since caught',
    'strand',
  ];
  const things = $derived(placedChoices(desk.shot!, emitter.id));

  function colourBy(value: string): void {
    const first = things.find((t) => desk.shot!.markers.some((m) => m.id === t.value)) ?? things[0];
    const changes = [{ op: 'replace' as const, path: `${path}/colour_by`, value: value as unknown }];
    if (value === 'distance' && !emitter.colour_of)
      changes.push({ op: 'replace', path: `${path}/colour_of`, value: first?.value ?? emitter.id });
    desk.change(changes, 'Colour by');
  }

  function palette(): void {
    const at = path;
    desk.tools.framing = async ([x0, y0, x1, y1]) => {
      try {
        const query = { frame: desk.player.frame, x0, y0, x1, y1 };
        const params = { path: { shot_id: desk.id }, query };
        const found = await got(api.GET('/api/shots/{shot_id}/palette', { params }));
        desk.set(`${at}/colour/colours`, found.stops, 'Palette of the plate');
      } catch (error) {
        notices.trouble(error);
      }
    };
  }
</script>

<Choice
  label="Colour by"
  value={emitter.colour_by}
  items={by.map((value) => ({ value, label: sentence(value) }))}
  hint="What selects a particle's position on the colour gradient of the desk."
  onset={colourBy}
/>
{#if emitter.colour_by === 'distance'}
  <Choice
    label="Distance to"
    value={emitter.colour_of ?? ''}
    items={things}
    onset={(v) => desk.set(`${path}/colour_of`, v, 'Distance to')}
  />
{/if}
<Fields {...common} only={['colour_from', 'colour_to', ...(emitter.born_of ? ['inherit_colour'] : [])]} />
{#if desk.shot!.plate}
  <button
    class="button my-1.5 h-6! px-2! text-[11.5px]"
    title="Drag a rectangle on the plate: its colours become the gradient."
    onclick={palette}>Palette from the plate</button
  >
{/if}
<Fields {...common} only={['hue', 'saturation', 'lightness']} />
<Tints {desk} {emitter} {path} />
<Fields {...common} only={['red', 'green', 'blue']} />
