<script lang="ts">
  import type { Snippet } from 'svelte';

  /** A tile to drop files on, or to select them with. busy: what is being read now, and how much of it has arrived (0 to 1). */
  let {
    label,
    accept,
    busy,
    share,
    multiple = false,
    class: more = '',
    ontake,
    children,
  }: {
    label: string;
    accept: string;
    busy: string;
    share: number;
    multiple?: boolean;
    class?: string;
    ontake: (files: FileList | null) => void;
    children: Snippet;
  } = $props();
  let dropping = $state(false);
</script>

<label
  class="grid cursor-pointer place-items-center rounded-lg border border-dashed p-3 text-center {more} {dropping
    ? 'border-aurora bg-aurora-ground'
    : 'border-line-strong hover:border-soft'}"
  ondragover={(e) => {
    e.preventDefault();
    dropping = true;
  }}
  ondragleave={() => (dropping = false)}
  ondrop={(e) => {
    e.preventDefault();
    dropping = false;
    ontake(e.dataTransfer?.files ?? null);
  }}
>
  {#if busy}
    <span>{busy}<br /><progress class="w-32 accent-(--aurora)" max="1" value={share}></progress></span>
  {:else}
    <span class="text-soft">{@render children()}</span>
  {/if}
  <input
    type="file"
    {multiple}
    class="sr-only"
    aria-label={label}
    {accept}
    onchange={(e) => ontake(e.currentTarget.files)}
  />
</label>
