<script lang="ts">
  import type { Body } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import Icon from '../ui/Icon.svelte';
  import BodyFields from './BodyFields.svelte';
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
</script>

<div class="grid grid-cols-6 gap-1 pb-1.5" role="radiogroup" aria-label={label}>
  {#each bodyKinds.all as one (one.kind)}
    {@const here = body.kind === one.kind}
    {@const empty = one.kind === 'picture' && !(here && body.kind === 'picture' && body.media)}
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
      {#if empty}
        <span class="text-[#dfe8e8]"><Icon name="plate" size={18} /></span>
      {:else}
        <img class="size-full object-contain p-0.5" src={bodyPicture(here ? body : one.body)} alt="" />
      {/if}
    </button>
  {/each}
</div>
<BodyFields {desk} {body} {path} />
