<script lang="ts">
  import type { Emitter } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Choice from '../ui/Choice.svelte';
  import Fields from '../ui/Fields.svelte';
  import NumberRow from '../ui/NumberRow.svelte';
  import PlainField from '../ui/PlainField.svelte';
  import PlaceFields from './PlaceFields.svelte';
  import Tints from './Tints.svelte';

  let { desk, emitter }: { desk: Desk; emitter: Emitter } = $props();
  const path = $derived(desk.path);
  const common = $derived({ desk, path, model: 'Emitter', owner: emitter });
  const bodies = [
    { kind: 'soft disc', label: 'Soft disc' },
    { kind: 'hard disc', label: 'Hard disc' },
  ] as const;
  const choices = (list: string[]): { value: string; label: string }[] =>
    list.map((value) => ({ value, label: value[0]!.toUpperCase() + value.slice(1) }));
</script>

<div class="group-name">Body</div>
<div class="flex gap-1.5 pb-1.5" role="radiogroup" aria-label="Body">
  {#each bodies as body (body.kind)}
    <button
      role="radio"
      aria-checked={emitter.body.kind === body.kind}
      aria-label={body.label}
      title={body.label}
      class="grid size-10 place-items-center rounded-lg border {emitter.body.kind === body.kind
        ? 'border-aurora bg-aurora-ground'
        : 'border-line-strong hover:border-soft'}"
      onclick={() => desk.set(`${path}/body/kind`, body.kind, 'Body')}
    >
      <svg width="28" height="28" viewBox="0 0 28 28" aria-hidden="true">
        {#if body.kind === 'soft disc'}
          <radialGradient id="soft">
            <stop offset={(100 - emitter.body.softness.value) / 100} stop-color="var(--word)" />
            <stop offset="1" stop-color="var(--word)" stop-opacity="0" />
          </radialGradient>
          <circle cx="14" cy="14" r="12" fill="url(#soft)" />
        {:else}
          <circle cx="14" cy="14" r="8" fill="var(--word)" />
        {/if}
      </svg>
    </button>
  {/each}
</div>
{#if emitter.body.kind === 'soft disc'}
  <NumberRow {desk} label="Softness" model="Body" owner={emitter.body} path="{path}/body" field="softness" />
{/if}
<Choice
  label="Blend"
  value={emitter.blend}
  items={[
    { value: 'normal', label: 'Normal' },
    { value: 'add', label: 'Add light' },
  ]}
  hint="Normal covers what is below; add only adds light to it."
  onset={(v) => desk.set(`${path}/blend`, v, 'Blend')}
/>
<Choice
  label="Drawn"
  value={emitter.order}
  items={choices(['oldest first', 'youngest first', 'farthest first'])}
  hint="The one drawn last lies on top."
  onset={(v) => desk.set(`${path}/order`, v, 'Drawing order')}
/>

<div class="group-name">Look <small>× its lane over life</small></div>
<Fields {...common} only={['size', 'opacity', 'brightness', 'angle', 'spin']} />
<Tints {desk} {emitter} {path} />
<Fields {...common} only={['red', 'green', 'blue']} />

<div class="group-name">Motion</div>
<Fields {...common} only={['mass', 'speed_limit']} />
<Choice
  label="After birth"
  value={emitter.stays}
  items={[
    { value: 'behind', label: 'Left in the world' },
    { value: 'along', label: 'Carried along' },
  ]}
  hint="Left where they were born, or carried on with the source."
  onset={(v) => desk.set(`${path}/stays`, v, 'After birth')}
/>

<PlaceFields {desk} owner={emitter} model="Emitter" {path} />

<div class="group-name">Chance</div>
<PlainField
  label="Seed"
  value={emitter.seed}
  hint="Another seed, other draws for everything this emitter draws."
  onset={(v) => desk.set(`${path}/seed`, v, 'Seed')}
/>

<style>
  .group-name {
    padding: 9px 0 3px;
    color: var(--soft);
  }
  .group-name:first-child {
    padding-top: 0;
  }
  small {
    font-size: 11px;
    opacity: 0.85;
  }
</style>
