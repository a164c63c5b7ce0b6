<script lang="ts">
  import type { Plate } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { specs } from '../state/specs.svelte';
  import { framesPerSecond } from '../ui/rates';
  import Choice from '../fields/Choice.svelte';
  import PlainField from '../fields/PlainField.svelte';
  import Switch from '../fields/Switch.svelte';

  let { desk, plate, onplate }: { desk: Desk; plate: Plate; onplate: () => void } = $props();
  const encodings = [
    { value: 'auto', label: 'From the file' },
    { value: 'srgb', label: 'sRGB' },
    { value: 'rec709', label: 'Rec.709, gamma 2.4' },
    { value: 'linear', label: 'Linear Rec.709' },
    { value: 'acescg', label: 'ACEScg' },
  ];
</script>

<Switch label="Shown" on={plate.on} onset={(on) => desk.set('/plate/on', on, 'Switch the plate')} />
<Choice
  label="Outside the range"
  value={plate.beyond}
  items={[
    { value: 'hold', label: 'Hold' },
    { value: 'loop', label: 'Loop' },
    { value: 'blank', label: 'Blank' },
  ]}
  onset={(v) => desk.set('/plate/beyond', v, 'Beyond the plate')}
/>
<Choice
  label="Fit"
  value={plate.fit}
  items={[
    { value: 'fill', label: 'Fill' },
    { value: 'fit', label: 'Whole' },
    { value: 'pixels', label: 'Pixel for pixel' },
  ]}
  onset={(v) => desk.set('/plate/fit', v, 'Fit of the plate')}
/>
<Choice
  label="Encoding"
  value={plate.encoding}
  items={encodings}
  onset={(v) => desk.set('/plate/encoding', v, 'Encoding')}
/>
{#if /#|%0?\d*d/.test(plate.media)}
  <Choice
    label="Plate rate"
    value={plate.rate ?? ''}
    items={[
      { value: '', label: "The shot's" },
      ...[...new Set([...specs.rates, ...(plate.rate ? [plate.rate] : [])])].map((value) => ({
        value,
        label: `${Number(framesPerSecond(value).toFixed(3))} fps`,
      })),
    ]}
    hint="Frames per second of the numbered pictures; a movie brings its own."
    onset={(v) => desk.set('/plate/rate', v === '' ? null : v, 'Rate of the plate')}
  />
{/if}
<PlainField
  label="Starts at"
  value={plate.offset_s}
  unit="s"
  hint="Shot time at which its first frame shows."
  onset={(v) => desk.set('/plate/offset_s', v ?? 0, 'Start of the plate')}
/>
<p class="py-3 break-all text-soft">{plate.media}</p>
<button class="button" onclick={onplate}>Replace plate …</button>
