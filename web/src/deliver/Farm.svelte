<script lang="ts">
  import type { Farm } from '../api/client';
  import { bytes } from './summary';

  /** Who makes the deliveries, where that is a farm. */
  let { farm }: { farm: Farm } = $props();
</script>

<section class="mt-4" aria-label="Farm">
  <h3 class="mb-1.5 font-semibold text-soft">
    Farm <span class="font-normal">at {farm.scheduler}</span>
  </h3>
  {#if farm.workers.length}
    <ul class="grid grid-cols-2 gap-1.5">
      {#each farm.workers as worker (worker.address)}
        <li class="flex items-center gap-2 rounded-lg border border-line bg-raised px-2.5 py-1.5">
          <span
            class="size-2 shrink-0 rounded-full {worker.note
              ? 'bg-amber'
              : worker.doing.length
                ? 'bg-aurora'
                : 'bg-lamp'}"
            aria-hidden="true"
          ></span>
          <span class="truncate font-semibold">{worker.name}</span>
          <span class="ml-auto truncate text-[11.5px] text-soft"
            >{worker.note || worker.doing[0] || 'idle'} · {bytes(worker.memory_bytes)}</span
          >
        </li>
      {/each}
    </ul>
  {:else}
    <p class="text-soft">
      No worker is connected. Start one with <code>isbjorn worker</code> on any machine.
    </p>
  {/if}
</section>
