<script lang="ts">
  import { untrack } from 'svelte';
  import { got, api, type Change, type Note } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Icon from '../ui/Icon.svelte';

  let { desk }: { desk: Desk } = $props();
  let notes = $state.raw<Note[]>([]);
  let open = $state(false);
  let asked = '';
  const marks = { trouble: '▲', hint: '●', fine: '✓' } as const;
  const colours = { trouble: 'text-[#ff8f8f]', hint: 'text-[#f2b950]', fine: 'text-[#c9cccc]' } as const;
  /** Notes worth a line: those without a problem are shown on demand. */
  const first = $derived(notes.find((note) => note.level !== 'fine') ?? null);

  // Updated when the picture has come to rest: after an edit or another frame, not at each step of a drag.
  $effect(() => {
    const key = `${desk.player.header?.revision} ${desk.player.header?.frame}`;
    if (!desk.player.header?.exact || desk.player.playing || desk.shaping || desk.edits.saving) return;
    const timer = setTimeout(() => untrack(() => void look(key)), 450);
    return () => clearTimeout(timer);
  });

  async function look(key: string): Promise<void> {
    if (asked === key) return;
    asked = key;
    try {
      const found = await got(
        api.GET('/api/shots/{shot_id}/lookout', {
          params: { path: { shot_id: desk.id }, query: { frame: desk.player.frame } },
        }),
      );
      if (asked === key) notes = found;
    } catch {
      /* the picture itself says what cannot be read */
    }
  }

  function mend(note: Note): void {
    desk.change((note.mend?.changes ?? []) as unknown as Change[], `Lookout: ${note.mend!.label}`);
  }

  function choose(note: Note): void {
    const found = desk.shot!.emitters.find((e) => e.id === note.thing);
    if (found) desk.selection = { kind: 'emitter', id: found.id };
  }
</script>

{#snippet row(note: Note)}
  <span class={colours[note.level]} aria-label={note.level}>{marks[note.level]}</span>
  <button
    class="min-w-0 flex-1 text-left {open ? '' : 'truncate'}"
    title={note.why}
    onclick={() => choose(note)}
  >
    <span class="text-[#e4e6e6]">{note.what}</span>
    {#if open}<span class="block text-[#a9aeae]">{note.why}</span>{/if}
  </button>
  {#if note.mend}
    <button
      class="shrink-0 rounded-md border border-[#5a5d5f] px-2 py-0.5 text-[11.5px] text-white hover:border-white"
      onclick={() => mend(note)}>{note.mend.label}</button
    >
  {/if}
{/snippet}

{#if notes.length}
  <section
    class="{first || open ? '' : 'self-start'} rounded-lg bg-[#101214e8] px-3 py-1 text-[12px] leading-[17px]"
    aria-label="Lookout"
    data-lookout={notes.length}
  >
    {#if open}
      <div class="flex items-center justify-between pb-1">
        <span class="font-semibold text-[#c9cccc]">Lookout {notes.length}</span>
        <button
          class="text-[#c9cccc] hover:text-white"
          aria-label="Close the Lookout"
          onclick={() => (open = false)}><Icon name="close" size={12} /></button
        >
      </div>
      <ul class="max-h-52 overflow-y-auto">
        {#each notes as note, i (i)}
          <li class="flex items-start gap-2 border-t border-[#2b2e30] py-1.5">{@render row(note)}</li>
        {/each}
      </ul>
    {:else}
      <div class="flex items-center gap-2">
        <button
          class="shrink-0 font-semibold text-[#c9cccc] hover:text-white"
          aria-expanded="false"
          title="All notes of the Lookout"
          onclick={() => (open = true)}>Lookout {notes.length}</button
        >
        {#if first}{@render row(first)}{:else}<span class="text-[#c9cccc]">{marks.fine}</span>{/if}
      </div>
    {/if}
  </section>
{/if}
