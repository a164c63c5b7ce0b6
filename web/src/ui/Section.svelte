<script lang="ts" module>
  /** Which sections are open; the same for every thing that has them. */
  const opened = $state<Record<string, boolean>>({});
</script>

<script lang="ts">
  import type { Snippet } from 'svelte';
  import Icon from './Icon.svelte';

  interface Props {
    title: string;
    /** What is set in it, in a few words, while it is closed. */
    about?: string;
    /** Whether it is open at first. */
    first?: boolean;
    children: Snippet;
  }
  let { title, about = '', first = false, children }: Props = $props();
  const open = $derived(opened[title] ?? first);
</script>

<section class="border-b border-line last:border-b-0" aria-label={title}>
  <button
    type="button"
    class="flex h-[27px] w-full items-center gap-1 text-left hover:text-word"
    class:text-soft={!open}
    aria-expanded={open}
    onclick={() => (opened[title] = !open)}
  >
    <span class="-ml-1 shrink-0 text-soft transition-transform" class:rotate-90={open}
      ><Icon name="chevron" size={11} /></span
    >
    <span class="shrink-0" class:font-semibold={open}>{title}</span>
    {#if !open && about}<span class="ml-auto truncate pl-2 text-[11.5px] text-word">{about}</span>{/if}
  </button>
  {#if open}<div class="pb-2">{@render children()}</div>{/if}
</section>
