<script lang="ts">
  import { notices } from '../state/notices.svelte';

  interface Props {
    /** On the button; without it there is none, and `choose` opens the chooser. */
    text?: string;
    /** What kind of file it takes, for those who cannot see. */
    label: string;
    accept: string;
    look?: string;
    /** What is done with the file; what goes wrong is told. */
    ontake: (file: File) => Promise<unknown>;
  }
  let { text = '', label, accept, look = 'button h-6! px-2! text-[11.5px]', ontake }: Props = $props();
  let input = $state<HTMLInputElement>();

  export function choose(): void {
    input?.click();
  }

  async function take(): Promise<void> {
    const file = input?.files?.[0];
    if (!file) return;
    try {
      await ontake(file);
    } catch (error) {
      notices.trouble(error);
    }
    // So that the same file can be chosen again; it may have gone with its section meanwhile.
    if (input) input.value = '';
  }
</script>

{#if text}<button type="button" class={look} onclick={choose}>{text}</button>{/if}
<input bind:this={input} type="file" {accept} class="hidden" aria-label={label} onchange={take} />
