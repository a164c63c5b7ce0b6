<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import type { DrivenLine } from '../timeline/driven_lines';

  /** The numbers that something leads; or how it can lead one. */
  let { desk, driven, none }: { desk: Desk; driven: DrivenLine[]; none: string } = $props();
</script>

{#if driven.length}
  <p class="pt-1 text-soft">Drives</p>
  <ul>
    {#each driven as one (one.path)}
      <li class="flex h-[26px] items-center justify-between border-b border-line">
        <button
          class="truncate text-left hover:text-aurora"
          onclick={() => (desk.tools.graph = one.path)}
          title="Graph">{one.name}</button
        >
        <span class="text-[11.5px] text-soft">{one.what}</span>
      </li>
    {/each}
  </ul>
{:else}
  <p class="pt-2 leading-snug text-soft">{none}</p>
{/if}
