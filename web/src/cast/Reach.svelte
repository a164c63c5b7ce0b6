<script lang="ts">
  import type { Desk } from '../state/desk.svelte';

  let { desk }: { desk: Desk } = $props();
  const shot = $derived(desk.shot!);
  /** Emitters, and the groups by which several are linked at once. */
  const reached = $derived([
    ...shot.groups.map((g) => ({ id: g.id, name: g.name, group: true, within: null as string | null })),
    ...shot.emitters.map((e) => ({ id: e.id, name: e.name, group: false, within: e.group })),
  ]);
  /** More than two names do not fit side by side: they are written upward. */
  const upright = $derived(reached.length > 2);
  const linked = $derived(new Set(shot.links.map((l) => `${l.force} ${l.emitter}`)));
</script>

{#if shot.forces.length > 0 && shot.emitters.length > 0}
  <div class="head"><span>Reach</span><small>forces on emitters</small></div>
  <div class="overflow-x-auto px-3.5 pb-3">
    <table class="w-full table-fixed border-separate border-spacing-y-1">
      <thead>
        <tr>
          <td class="w-[78px]"></td>
          {#each reached as one (one.id)}
            <th
              class="pb-1 text-[11px] font-normal text-soft {upright
                ? 'align-bottom'
                : 'truncate px-0.5 text-center'}"
              class:italic={one.group}
              scope="col"
              title={one.group ? `Every emitter of the group ${one.name}` : one.name}
            >
              {#if upright}<span
                  class="mx-auto block max-h-23 rotate-180 truncate leading-tight [writing-mode:vertical-rl]"
                  >{one.name}</span
                >
              {:else}{one.name}{/if}
            </th>
          {/each}
        </tr>
      </thead>
      <tbody>
        {#each shot.forces as force (force.id)}
          <tr class:opacity-45={!force.on}>
            <th class="truncate pr-2 text-left font-normal" scope="row" title={force.name}>{force.name}</th>
            {#each reached as one (one.id)}
              {@const on = linked.has(`${force.id} ${one.id}`)}
              {@const through = !on && one.within !== null && linked.has(`${force.id} ${one.within}`)}
              <td class="text-center">
                <button
                  class="grid h-6 w-full place-items-center rounded-[5px] hover:bg-raised"
                  role="checkbox"
                  aria-checked={on}
                  aria-label="{force.name} acts on {one.name}{through ? ', through its group' : ''}"
                  onclick={() => desk.link(force.id, one.id)}
                >
                  <span
                    class={on
                      ? 'h-[13px] w-full max-w-[26px] rounded-[4px] bg-word/85'
                      : through
                        ? 'h-[13px] w-full max-w-[26px] rounded-[4px] border border-word/60'
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
