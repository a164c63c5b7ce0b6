<script lang="ts">
  import type { Emitter } from '../api/client';
  import Fields from '../fields/Fields.svelte';
  import Switch from '../fields/Switch.svelte';
  import type { Desk } from '../state/desk.svelte';
  import { specs } from '../state/specs.svelte';
  import CutPicker from './CutPicker.svelte';

  let { desk, emitter, path: owner }: { desk: Desk; emitter: Emitter; path: string } = $props();
  const path = $derived(`${owner}/pieces`);
  const pieces = $derived(emitter.pieces);
  const lettered = $derived(specs.shapes.find((one) => one.kind === emitter.shape.kind)?.lettered ?? false);
  const fronts = $derived(desk.scene?.emitters.find((one) => one.emitter === emitter.id)?.pieces ?? []);
  const parts = [
    ['release', 'Release', 'The pieces leave the whole along a front, and are particles from then on.'],
    ['assemble', 'Assemble', 'Particles fly together, and each arrives exactly at its place.'],
  ] as const;
  const seconds = (s: number): string => `${Number(s.toFixed(2))} s`;
</script>

<Switch
  label="In pieces"
  on={pieces !== null}
  hint="Cuts the emitter's shape into pieces that leave it along a front, or assemble it."
  onset={(on) =>
    desk.set(
      path,
      on ? { cut: 'squares', release: { at_s: Number(desk.player.now.toFixed(2)) } } : null,
      on ? 'Pieces' : 'No pieces',
    )}
/>
{#if pieces}
  <CutPicker
    cut={pieces.cut}
    {lettered}
    onset={(cut) => desk.set(`${path}/cut`, cut, 'Form of the pieces')}
  />
  <Fields {desk} model="Pieces" owner={pieces} {path} only={['size', 'variation', 'angle']} />
  {#each parts as [field, label, hint] (field)}
    {@const front = fronts.find((one) => one.of === field)}
    <Switch
      {label}
      {hint}
      on={pieces[field] !== null}
      onset={(on) => desk.set(`${path}/${field}`, on ? {} : null, on ? label : `No ${label.toLowerCase()}`)}
    />
    {#if pieces[field]}
      <div class="pb-1.5 pl-3">
        {#if front}
          <p class="py-1 text-[11.5px] leading-snug text-soft">
            {front.pieces.toLocaleString('en')}
            {field === 'release' ? 'pieces leave' : 'places are filled'} from
            <span class="text-dawn">{seconds(front.first_s)}</span> to
            <span class="text-dawn">{seconds(front.last_s)}</span>.
          </p>
        {/if}
        <Fields
          {desk}
          model={field === 'release' ? 'Release' : 'Assemble'}
          owner={pieces[field]!}
          path="{path}/{field}"
        />
      </div>
    {/if}
  {/each}
{/if}
