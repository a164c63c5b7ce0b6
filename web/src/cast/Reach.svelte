<script lang="ts">
  import type { Desk } from '../state/desk.svelte';

  let { desk }: { desk: Desk } = $props();
  const shot = $derived(desk.shot!);
  const linked = $derived(new Set(shot.links.map((l) => `${l.force} ${l.emitter}`)));
</script>

{#if shot.forces.length > 0 && shot.emitters.length > 0}
  <div class="head"><span>Reach</span><small>which force acts on whom</small></div>
  <div class="overflow-x-auto px-3.5 pb-3">
    <table class="w-full table-fixed border-separate border-spacing-y-1">
      <thead>
        <tr>
          <th class="w-[78px]"></th>
          {#each shot.emitters as emitter (emitter.id)}
            <th
              class="max-w-12 truncate px-0.5 pb-0.5 text-center text-[11px] font-normal text-soft"
              title={emitter.name}>{emitter.name}</th
            >
          {/each}
        </tr>
      </thead>
      <tbody>
        {#each shot.forces as force (force.id)}
          <tr class:opacity-45={!force.on}>
            <th class="truncate pr-2 text-left font-normal" title={force.name}>{force.name}</th>
            {#each shot.emitters as emitter (emitter.id)}
              {@const on = linked.has(`${force.id} ${emitter.id}`)}
              <td class="text-center">
                <button
                  class="grid h-[17px] w-full place-items-center rounded-[5px] hover:bg-raised"
                  role="checkbox"
                  aria-checked={on}
                  aria-label="{force.name} acts on {emitter.name}"
                  onclick={() => desk.link(force.id, emitter.id)}
                >
                  <span
                    class={on
                      ? 'h-[13px] w-full max-w-[26px] rounded-[4px] bg-word/85'
                      : 'size-[4px] rounded-full bg-lamp'}
                  ></span>
                </button>
              </td>
            {/each}
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
