<script lang="ts" generics="C">
  import type { Snippet } from 'svelte';
  import { notices } from '../state/notices.svelte';

  interface Props {
    load: () => Promise<{ default: C }>;
    /** Whether it is needed now; once loaded, it stays. */
    wanted?: boolean;
    children: Snippet<[C]>;
  }
  /** A part of the page that is loaded when it is first needed. */
  let { load, wanted = true, children }: Props = $props();
  let loaded = $state.raw<C | null>(null);

  $effect(() => {
    if (!wanted || loaded) return;
    load().then(
      (part) => (loaded = part.default),
      () =>
        notices.trouble(
          new Error(
            'This part of the page could not be loaded. Check that the studio is running, then reload the page.',
          ),
        ),
    );
  });
</script>

{#if loaded}{@render children(loaded)}{/if}
