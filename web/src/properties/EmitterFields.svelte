<script lang="ts">
  import type { Emitter } from '../api/client';
  import Mixed from '../body/Mixed.svelte';
  import SkinPicker from '../body/SkinPicker.svelte';
  import Finish from '../finish/Finish.svelte';
  import { finishAbout } from '../finish/kinds';
  import UseFields from '../finish/UseFields.svelte';
  import type { Desk } from '../state/desk.svelte';
  import { specs } from '../state/specs.svelte';
  import Choice from '../fields/Choice.svelte';
  import Fields from '../fields/Fields.svelte';
  import PiecesFields from '../pieces/PiecesFields.svelte';
  import Section from '../ui/Section.svelte';
  import Switch from '../fields/Switch.svelte';
  import ColourFields from './ColourFields.svelte';
  import { hide } from './fields';
  import PlaceFields from './PlaceFields.svelte';

  let { desk, emitter }: { desk: Desk; emitter: Emitter } = $props();
  const path = $derived(desk.path);
  const common = $derived({ desk, path, model: 'Emitter', owner: emitter });
  const extras = [
    ['trail', 'Trail', 'Trail', 'Each particle draws its path behind it.'],
    ['lines', 'Lines', 'Lines', 'Lines to neighbouring particles, in the colours of both.'],
    ['skin', 'Skin', 'Skin', 'One smooth surface over all particles instead of their bodies: a liquid.'],
    [
      'strand',
      'Strands',
      'Strand',
      'Each birth is the root of a strand, which replaces body, trail and repeats.',
    ],
    [
      'ripples',
      'Ripples',
      'Ripples',
      'Each birth drops into water: waves spread from it over a surface of your plate.',
    ],
    ['heads', 'Repeats', 'Heads', 'Each particle is drawn again along its path, offset in time.'],
  ] as const;
  const drawn = $derived(extras.filter(([field]) => emitter[field]).map(([, label]) => label.toLowerCase()));
  /** How the particles are cut out of the shape; empty: they have bodies of their own. */
  const cut = $derived(emitter.pieces && emitter.pieces.cut !== 'points' ? emitter.pieces.cut : '');
  /** Fields of looks that change nothing: pieces have their own size, and leave as they stood. */
  const unused = $derived([
    ...(emitter.born_of ? [] : ['inherit_size']),
    ...(cut ? ['size'] : []),
    ...(cut && emitter.pieces?.release ? ['angle', 'turn_x', 'turn_y'] : []),
  ]);
  const groups = $derived([
    { value: '', label: 'Its own' },
    ...desk.shot!.groups.map((g) => ({ value: g.id, label: g.name })),
  ]);
  const sits = $derived(
    [
      emitter.use.kind === 'picture' ? emitter.blend : emitter.use.kind,
      ...(emitter.hidden_by.length ? ['hidden'] : []),
      ...(emitter.lit.value ? ['lit'] : []),
    ].join(' · '),
  );

  async function newGroup(): Promise<void> {
    const at = path;
    await desk.add('group');
    const chosen = desk.selection;
    if (chosen.kind === 'group') desk.set(`${at}/group`, chosen.id, 'Group');
  }
</script>

<Section title="Body" first about={cut ? cut : emitter.body.kind}>
  {#if cut}
    <p class="py-1 leading-snug text-soft">
      Each particle is a piece of the shape, as large as it was cut. How it is cut is set under
      <span class="text-word">Pieces</span>.
    </p>
    <Fields {...common} panel="body" without={['facing']} />
  {:else}
    <Mixed {desk} {emitter} {path} />
    <Fields {...common} panel="body" />
  {/if}
</Section>
<Section title="Look" first about="× over-life lane">
  <Fields {...common} panel="look" without={unused} />
</Section>
<Section title="Colour" about="by {emitter.colour_by}"><ColourFields {desk} {emitter} {path} /></Section>
<Section title="Pieces" about={emitter.pieces ? emitter.pieces.cut : ''}>
  <PiecesFields {desk} {emitter} {path} />
</Section>
<Section title="Trails, strands, water" about={drawn.join(' · ')}>
  {#each extras as [field, label, model, hint] (field)}
    <Switch
      {label}
      {hint}
      on={emitter[field] !== null}
      onset={(on) => desk.set(`${path}/${field}`, on ? {} : null, on ? label : `No ${label.toLowerCase()}`)}
    />
    {#if emitter[field] && Object.keys(emitter[field]).length > 0}
      <div class="pb-1.5 pl-3">
        {#if field === 'skin'}<SkinPicker {desk} path="{path}/skin" />{/if}
        <Fields {desk} {model} owner={emitter[field]} path="{path}/{field}" />
      </div>
    {/if}
  {/each}
</Section>
<Section title="Compositing" about={sits}>
  <Fields {...common} panel="compositing" />
  <UseFields {desk} use={emitter.use} owner={emitter.id} path="{path}/use" />
  {#if emitter.lit.value > 0 && desk.shot!.lights.length === 0}
    <button class="button my-1.5 h-6! px-2! text-[11.5px]" onclick={() => desk.add('light')}
      >Add a light</button
    >
  {/if}
  {#each desk.shot!.mattes as matte (matte.id)}
    <Switch
      label="Behind {matte.name}"
      on={emitter.hidden_by.includes(matte.id)}
      onset={(on) => hide(desk, emitter, path, matte.id, on)}
    />
  {:else}
    <button class="button mt-1.5 h-6! px-2! text-[11.5px]" onclick={() => desk.add('matte')}
      >Add an occluding matte</button
    >
  {/each}
</Section>
<Section title="Effects" about={finishAbout(emitter.finish)}>
  <Choice
    label="Effects of"
    value={emitter.group ?? ''}
    items={groups}
    hint="The members of a group are drawn onto one layer, which has its own effects."
    onset={(v) => desk.set(`${path}/group`, v || null, 'Group')}
  />
  {#if !emitter.group}
    <button class="button my-1.5 h-6! px-2! text-[11.5px]" onclick={newGroup}>New group</button>
  {/if}
  <Finish
    {desk}
    steps={emitter.finish}
    path="{path}/finish"
    about="Effects on its layer: blur, glow, grade … from first to last."
  />
</Section>
<Section title="Deformers" about={finishAbout(emitter.deformers)}>
  <Finish
    {desk}
    steps={emitter.deformers}
    path="{path}/deformers"
    about="Bends the visible stream along a path, twists or tapers it. The motion stays the same."
    word="deformer"
    kinds={specs.deformers}
    most={8}
  />
</Section>
<Section title="Motion" about={emitter.stays === 'along' ? 'local space' : ''}>
  <Fields {...common} panel="motion" />
</Section>
<Section title="Place" first>
  <PlaceFields {desk} owner={emitter} model="Emitter" {path} untitled />
</Section>
