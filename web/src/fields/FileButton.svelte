<script lang="ts">
  import { notices } from '../state/notices.svelte';

  interface Props {
    /** Label of the button; without it there is no button, and `choose` opens the file dialog. */
    text?: string;
    /** Accepted kinds of files, for screen readers. */
    label: string;
    accept: string;
    look?: string;
    /** Whether several may be chosen at once. */
    many?: boolean;
    /** Handles the file, or all of them; errors are shown. */
    ontake: (file: File, all: File[]) => Promise<unknown>;
  }
  let {
    text = '',
    label,
    accept,
    look = 'button h-6! px-2! text-[11.5px]',
    many = false,
    ontake,
  }: Props = $props();
  let input = $state<HTMLInputElement>();

  export function choose(): void {
    input?.click();
  }

  async function take(): Promise<void> {
    const file = input?.files?.[0];
    if (!file) return;
    try {
      await ontake(file, [...(input?.files ?? [])]);
    } catch (error) {
      notices.trouble(error);
    }
    // So that the same file can be chosen again; it may have gone with its section meanwhile.
    if (input) input.value = '';
  }
</script>

{#if text}<button type="button" class={look} onclick={choose}>{text}</button>{/if}
<input
  bind:this={input}
  type="file"
  {accept}
  multiple={many}
  class="hidden"
  aria-label={label}
  onchange={take}
/>
