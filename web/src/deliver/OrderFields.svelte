<script lang="ts">
  import { api, got, type Order } from '../api/client';
  import { notices } from '../state/notices.svelte';
  import Choice from '../fields/Choice.svelte';
  import Section from '../ui/Section.svelte';
  import Chips from './Chips.svelte';
  import NumberBox from './NumberBox.svelte';
  import type { Ordering } from './order.svelte';
  import FrameStrip from './FrameStrip.svelte';

  let { ordering }: { ordering: Ordering } = $props();
  const o = $derived(ordering.order!);
  const format = $derived(ordering.format);
  const retime = $derived(o.retime ?? null);
  const shot = $derived(ordering.desk.shot!);
  const OWN = '';

  const scales = [
    { value: '0.25', label: 'Quarter' },
    { value: String(1 / 3), label: 'Third' },
    { value: '0.5', label: 'Half' },
    { value: '1', label: 'Full size' },
    { value: '2', label: 'Double' },
  ];
  const passes = [
    { value: 'emitters', label: 'Emitters' },
    { value: 'groups', label: 'Groups' },
    { value: 'alpha', label: 'Alpha' },
    { value: 'depth', label: 'Depth' },
    { value: 'motion', label: 'Motion' },
    { value: 'normals', label: 'Normals' },
    { value: 'ids', label: 'Ids' },
    { value: 'objects', label: 'Cryptomatte' },
    { value: 'plate', label: 'Plate' },
  ];
  const burns = [
    { value: 'name', label: 'Name' },
    { value: 'timecode', label: 'Timecode' },
    { value: 'frame', label: 'Frame' },
    { value: 'figures', label: 'Figures' },
  ];
  const existing = [
    { value: 'version', label: 'Next version' },
    { value: 'refuse', label: 'Refuse' },
    { value: 'replace', label: 'Replace when done' },
    { value: 'keep', label: 'Only missing frames' },
  ];
  const betweens = [
    { value: 'held', label: 'Held' },
    { value: 'nearest', label: 'Nearest frame' },
    { value: 'blended', label: 'Blended' },
  ];
  const fields = [
    { value: 'none', label: 'Whole frames' },
    { value: 'upper first', label: 'Upper field first' },
    { value: 'lower first', label: 'Lower field first' },
  ];
  const compressions = $derived([
    { value: '', label: 'ZIP' },
    ...(format?.compressions ?? [])
      .filter((c) => c !== 'zip')
      .map((c) => ({ value: c, label: c.toUpperCase() })),
  ]);

  // Colour
  let colours = $state.raw<{ value: string; label: string }[]>([{ value: OWN, label: 'Format default' }]);
  let asked = '\n';
  const config = $derived(o.colour?.config ?? '');
  const before = $derived(ordering.form?.config ?? '');
  const colour = $derived(
    o.colour == null
      ? OWN
      : o.colour.display
        ? `${o.colour.display}\n${o.colour.view}`
        : (o.colour.space ?? ''),
  );
  $effect(() => {
    if (asked === config) return;
    asked = config;
    void (async () => {
      try {
        const found = await got(api.GET('/api/colours', { params: { query: { config } } }));
        colours = [
          { value: OWN, label: 'Format default' },
          ...found.spaces.map((space) => ({ value: space, label: space })),
          ...found.views.map(([display, view]) => ({
            value: `${display}\n${view}`,
            label: `${view} · ${display}`,
          })),
        ];
      } catch (error) {
        notices.trouble(error);
      }
    })();
  });
  function setColour(value: string): void {
    const [display = '', view = ''] = value.includes('\n') ? value.split('\n') : [];
    ordering.set({
      colour: value === OWN && !config ? null : { space: view ? '' : value, display, view, config },
    });
  }
  function setConfig(path: string): void {
    const first = { space: colours[1]?.value ?? '', display: '', view: '', config: path };
    ordering.set({ colour: path ? first : null });
  }

  // Time
  type Retime = NonNullable<Order['retime']>;
  function setRetime(change: Partial<Retime>): void {
    const made = { rate: null, speed: 100, keys: [], plate: 'held' as const, ...retime, ...change };
    const plain = made.rate == null && made.speed === 100 && made.keys.length === 0;
    ordering.set({ retime: plain ? null : made });
  }
  function setKey(at: number, change: { at_s?: number; value?: number } | null): void {
    const keys = (retime?.keys ?? []).map((key) => ({ ...key }));
    if (change === null) keys.splice(at, 1);
    else if (at === keys.length)
      keys.push({
        at_s: keys.length ? keys[keys.length - 1]!.at_s + 1 : 0,
        value: keys.length ? keys[keys.length - 1]!.value : 100,
        joint: 'smooth',
        ease: null,
      });
    else Object.assign(keys[at]!, change);
    keys.sort((a, b) => a.at_s - b.at_s);
    setRetime({ keys });
  }

  const framesAbout = $derived(
    [
      `${o.first} – ${o.last}`,
      (o.every ?? 1) > 1 ? `every ${o.every}` : '',
      o.before || o.after ? `handles ${o.before}, ${o.after}` : '',
    ]
      .filter(Boolean)
      .join(' · '),
  );
  const timeAbout = $derived(
    [
      retime?.rate ? `${retime.rate} fps` : `${shot.rate} fps`,
      retime?.keys?.length ? 'keyed speed' : retime && retime.speed !== 100 ? `${retime.speed} %` : '',
      o.fields !== 'none' ? o.fields : '',
    ]
      .filter(Boolean)
      .join(' · '),
  );
  const reviewAbout = $derived(
    [...(o.burn ?? []), o.slate ? 'slate' : '', o.sound && o.over_plate ? 'sound' : '']
      .filter(Boolean)
      .join(', ') || 'nothing',
  );
</script>

<div class="grid grid-cols-[1.5fr_1fr] gap-x-4 gap-y-2">
  <div>
    <span class="text-soft">Format</span>
    <Choice
      row={false}
      label="Format"
      value={o.format ?? ''}
      items={ordering.form!.formats.map((f) => ({ value: f.name, label: f.label }))}
      onset={(v) => ordering.setFormat(v)}
    />
  </div>
  <div>
    <span class="text-soft">Size</span>
    <Choice
      row={false}
      label="Size"
      value={String(o.scale)}
      items={scales}
      onset={(v) => ordering.set({ scale: Number(v) })}
    />
  </div>
  <label class="flex h-7 items-center gap-2">
    <input
      type="checkbox"
      class="accent-(--aurora)"
      checked={o.over_plate}
      onchange={(e) => ordering.set({ over_plate: e.currentTarget.checked })}
    /> Over the plate
  </label>
  {#if format && format.compressions.length > 1}
    <Choice
      label="Compression"
      value={o.compression ?? ''}
      items={compressions}
      onset={(v) => ordering.set({ compression: v })}
    />
  {/if}
  {#if format?.layers}
    <div class="col-span-2">
      <Chips
        label="Passes"
        items={passes}
        chosen={o.passes ?? []}
        onset={(v) => ordering.set({ passes: v as Order['passes'] })}
      />
    </div>
  {/if}
</div>

<div class="mt-2">
  <Section title="Frames" about={framesAbout}>
    <div class="grid grid-cols-5 gap-2.5">
      <NumberBox label="First frame" value={o.first} onset={(v) => ordering.set({ first: v })} />
      <NumberBox label="Last frame" value={o.last} onset={(v) => ordering.set({ last: v })} />
      <NumberBox label="Every" value={o.every ?? 1} low={1} onset={(v) => ordering.set({ every: v })} />
      <NumberBox
        label="Handles before"
        value={o.before ?? 0}
        low={0}
        onset={(v) => ordering.set({ before: v })}
      />
      <NumberBox
        label="Handles after"
        value={o.after ?? 0}
        low={0}
        onset={(v) => ordering.set({ after: v })}
      />
    </div>
  </Section>
  <Section title="Name and folder" about={o.name}>
    <div class="grid grid-cols-[1fr_64px_150px] gap-2.5">
      <label class="col-span-3 block">
        <span class="text-soft">Folder</span>
        <input
          class="field w-full"
          required
          value={o.folder}
          onchange={(e) => ordering.set({ folder: e.currentTarget.value })}
        />
      </label>
      <label class="block">
        <span class="text-soft">Name</span>
        <input
          class="field w-full"
          required
          value={o.name}
          onchange={(e) => ordering.set({ name: e.currentTarget.value })}
        />
      </label>
      <NumberBox
        label="Digits"
        value={o.padding ?? 4}
        low={1}
        high={10}
        onset={(v) => ordering.set({ padding: v })}
      />
      <div>
        <span class="text-soft">Existing files</span>
        <Choice
          row={false}
          label="Existing files"
          value={o.existing ?? 'refuse'}
          items={existing}
          onset={(v) => ordering.set({ existing: v as Order['existing'] })}
        />
      </div>
      <p class="col-span-3 text-[11.5px] text-soft">
        Names may hold
        {#each ordering.form!.tokens as token (token)}
          <button
            type="button"
            class="mr-1 rounded bg-well px-1 hover:text-word"
            title="Add to the name"
            onclick={() => ordering.set({ name: `${o.name}_{${token}}` })}>{`{${token}}`}</button
          >
        {/each}
      </p>
    </div>
  </Section>
  <Section
    title="Colour space"
    about={o.colour ? (o.colour.display ? o.colour.view : o.colour.space) : 'format default'}
  >
    <div class="grid grid-cols-2 gap-2.5">
      <div>
        <span class="text-soft">Colour space, or a view</span>
        <Choice row={false} label="Colour space" value={colour} items={colours} onset={setColour} />
      </div>
      <label class="block">
        <span class="text-soft">Configuration</span>
        <input
          class="field w-full"
          placeholder="built in; or the path of a config.ocio"
          value={config}
          onchange={(e) => setConfig(e.currentTarget.value.trim())}
        />
        {#if before && !config}
          <button
            type="button"
            class="mt-1 text-[11.5px] text-soft hover:text-word"
            onclick={() => setConfig(before)}>As this project’s last: {before.split('/').at(-1)}</button
          >
        {/if}
      </label>
    </div>
  </Section>
  <Section title="Time" about={timeAbout}>
    <div class="grid grid-cols-4 gap-2.5">
      <label class="block">
        <span class="text-soft">Frame rate</span>
        <input
          class="field w-full"
          placeholder={String(shot.rate)}
          value={retime?.rate ?? ''}
          onchange={(e) => setRetime({ rate: e.currentTarget.value.trim() || null })}
        />
      </label>
      <NumberBox
        label="Speed, %"
        value={retime?.speed ?? 100}
        low={0}
        high={10000}
        onset={(v) => setRetime({ speed: v })}
      />
      <div>
        <span class="text-soft">Plate between frames</span>
        <Choice
          row={false}
          label="Plate between frames"
          value={retime?.plate ?? 'held'}
          items={betweens}
          onset={(v) => setRetime({ plate: v as Retime['plate'] })}
        />
      </div>
      <div>
        <span class="text-soft">Fields</span>
        <Choice
          row={false}
          label="Fields"
          value={o.fields ?? 'none'}
          items={format?.fields ? fields : fields.slice(0, 1)}
          onset={(v) => ordering.set({ fields: v as Order['fields'] })}
        />
      </div>
    </div>
    <div class="mt-2 flex flex-wrap items-center gap-1.5">
      {#each retime?.keys ?? [] as key, at (at)}
        <span class="flex items-center gap-1 rounded-md border border-line-strong px-1.5 py-0.5">
          <input
            class="w-11 bg-transparent text-right"
            aria-label="Key {at + 1}: seconds"
            value={key.at_s}
            onchange={(e) => setKey(at, { at_s: Number(e.currentTarget.value) || 0 })}
          />
          <span class="text-soft">s</span>
          <input
            class="w-11 bg-transparent text-right font-semibold"
            aria-label="Key {at + 1}: speed"
            value={key.value}
            onchange={(e) => setKey(at, { value: Math.max(0, Number(e.currentTarget.value) || 0) })}
          />
          <span class="text-soft">%</span>
          <button
            type="button"
            class="text-soft hover:text-word"
            aria-label="Remove key {at + 1}"
            onclick={() => setKey(at, null)}>×</button
          >
        </span>
      {/each}
      <button
        type="button"
        class="button h-6! px-2! text-[11.5px]"
        onclick={() => setKey(retime?.keys?.length ?? 0, {})}>Add a speed key</button
      >
    </div>
    {#if ordering.preview && retime}
      <div class="mt-2">
        <FrameStrip
          moments={ordering.preview.moments}
          first={o.first - (o.before ?? 0)}
          last={o.last + (o.after ?? 0)}
          length={ordering.preview.length_s}
        />
      </div>
    {/if}
  </Section>
  <Section title="For review" about={reviewAbout}>
    <Chips
      label="On the picture"
      items={burns}
      chosen={o.burn ?? []}
      onset={(v) => ordering.set({ burn: v as Order['burn'] })}
    />
    <div class="mt-2 flex gap-5">
      <label class="flex items-center gap-2">
        <input
          type="checkbox"
          class="accent-(--aurora)"
          checked={o.slate}
          onchange={(e) => ordering.set({ slate: e.currentTarget.checked })}
        /> A slate before the first frame
      </label>
      <label class="flex items-center gap-2">
        <input
          type="checkbox"
          class="accent-(--aurora)"
          checked={o.sound}
          onchange={(e) => ordering.set({ sound: e.currentTarget.checked })}
        /> Sound
      </label>
    </div>
  </Section>
</div>
