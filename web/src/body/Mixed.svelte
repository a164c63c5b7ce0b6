<script lang="ts">
  import type { Body, Emitter } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Fields from '../fields/Fields.svelte';
  import Icon from '../ui/Icon.svelte';
  import PlainField from '../fields/PlainField.svelte';
  import BodyPicker from './BodyPicker.svelte';
  import { bodyPicture, titleOf } from './kinds.svelte';

  /** path: JSON pointer of the emitter. The first body and those mixed with it, dealt out by their weights. */
  let { desk, emitter, path }: { desk: Desk; emitter: Emitter; path: string } = $props();
  const bodies = $derived<Body[]>([emitter.body, ...emitter.mixed]);
  let at = $state(0);
  const chosen = $derived(Math.min(at, bodies.length - 1));
  const total = $derived(bodies.reduce((sum, b) => sum + b.weight, 0));
  const pathOf = (i: number): string => (i === 0 ? `${path}/body` : `${path}/mixed/${i - 1}`);

  function more(): void {
    at = bodies.length;
    desk.set(`${path}/mixed`, [...emitter.mixed, { kind: 'star', weight: 1 }], 'Add body');
  }

  function less(): void {
    const kept = bodies.filter((_, i) => i !== chosen);
    at = 0;
    desk.change(
      [
        { op: 'replace', path: `${path}/body`, value: kept[0] },
        { op: 'replace', path: `${path}/mixed`, value: kept.slice(1) },
      ],
      'Remove body',
    );
  }
</script>

{#if bodies.length > 1}
  <div class="flex flex-wrap items-center gap-1 pb-1.5" role="radiogroup" aria-label="Choice of body">
    {#each bodies as body, i (i)}
      <button
        role="radio"
        aria-checked={i === chosen}
        class="flex items-center gap-1 rounded-md border py-0.5 pr-1.5 pl-0.5 text-[11.5px] {i === chosen
          ? 'border-aurora'
          : 'border-line-strong text-soft'}"
        aria-label="Body {i + 1}: {titleOf(body.kind)}"
        onclick={() => (at = i)}
      >
        <img class="size-5 rounded bg-[#101618]" src={bodyPicture(body)} alt="" />
        {total > 0 ? Math.round((100 * body.weight) / total) : 0} %
      </button>
    {/each}
    <button class="quiet ml-auto" aria-label="Remove this body" title="Remove this body" onclick={less}
      ><Icon name="close" size={11} /></button
    >
  </div>
{/if}
{#key chosen}
  <BodyPicker {desk} body={bodies[chosen]!} path={pathOf(chosen)} />
{/key}
{#if bodies.length > 1}
  <PlainField
    label="Weight"
    value={bodies[chosen]!.weight}
    hint="Share of particles that get this body."
    onset={(v) => v !== null && desk.set(`${pathOf(chosen)}/weight`, v, 'Weight of a body')}
  />
{/if}
{#if bodies.length > 1}
  <Fields {desk} model="Emitter" owner={emitter} {path} only={['mixed_by']} />
{/if}
{#if bodies.length < 16}
  <button class="button mt-1.5 h-6! px-2! text-[11.5px]" onclick={more}>Add another body</button>
{/if}
