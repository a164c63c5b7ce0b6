<script lang="ts">
  import type { Body } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import { specs } from '../state/specs.svelte';
  import Fields from '../fields/Fields.svelte';
  import { bodyKinds, bodyPicture, titleOf } from './kinds.svelte';

  /** path: JSON pointer of the body. */
  let {
    desk,
    body,
    path,
    label = 'Body',
  }: { desk: Desk; body: Body; path: string; label?: string } = $props();
  $effect(() => {
    bodyKinds.load().catch((error) => notices.trouble(error));
  });
  const kindOf = (kind: string) => specs.bodies.find((one) => one.kind === kind);
  const values = $derived(body as Record<string, unknown>);
</script>

<div class="grid grid-cols-6 gap-1 pb-1.5" role="radiogroup" aria-label={label}>
  {#each bodyKinds.all as one (one.kind)}
    {@const here = body.kind === one.kind}
    {@const { needs = '', icon = '' } = kindOf(one.kind) ?? {}}
    <button
      role="radio"
      aria-checked={here}
      aria-label={titleOf(one.kind)}
      title={titleOf(one.kind)}
      class="grid aspect-square place-items-center overflow-hidden rounded-md border bg-[#101618] {here
        ? 'border-aurora'
        : 'border-line-strong hover:border-soft'}"
      onclick={() => here || desk.set(path, { ...one.body, weight: body.weight }, 'Body')}
    >
      {#if needs && !(here && values[needs])}
        <svg viewBox="0 0 24 24" width="18" height="18" fill="none" stroke="#dfe8e8" stroke-width="1.6"
          ><path d={icon} /></svg
        >
      {:else}
        <img class="size-full object-contain p-0.5" src={bodyPicture(here ? body : one.body)} alt="" />
      {/if}
    </button>
  {/each}
</div>
<Fields {desk} model={kindOf(body.kind)?.model ?? ''} owner={body} {path} />
