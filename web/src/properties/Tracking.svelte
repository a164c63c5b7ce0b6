<script lang="ts">
  import { got, api, upload, type Placed } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import FileButton from '../fields/FileButton.svelte';
  import PlainField from '../fields/PlainField.svelte';

  /** A thing follows the point of the plate below it. */
  let { desk, owner }: { desk: Desk; owner: Placed } = $props();
  const shot = $derived(desk.shot!);
  const url = $derived(`/api/shots/${desk.id}/track/${encodeURIComponent(owner.id)}`);
  let patch = $state(41);
  let busy = $state('');
  const known = $derived(desk.tools.followed?.thing === owner.id ? desk.tools.followed : null);
  const least = $derived(known ? Math.min(...known.sure.map((s) => s.confidence)) : 1);

  async function track(last: number, words: string): Promise<void> {
    busy = words;
    try {
      const body = { first: desk.player.frame, last, window: patch };
      const found = await got(
        api.POST('/api/shots/{shot_id}/track/{thing_id}', {
          params: { path: { shot_id: desk.id, thing_id: owner.id } },
          body,
        }),
      );
      // What was known of other frames stays known.
      const now = found.confidence.map((s) => s.frame);
      const before = known?.sure.filter((s) => !now.includes(s.frame)) ?? [];
      const sure = [...before, ...found.confidence].sort((a, b) => a.frame - b.frame);
      desk.tools.followed = { thing: owner.id, sure, lost: found.lost_at };
      await desk.reload();
      if (found.lost_at !== null) {
        desk.player.go(found.lost_at);
        notices.say(
          `The point is lost at frame ${found.lost_at}. Earlier keys are kept: drag it back into place there, and track forward.`,
        );
      }
    } catch (error) {
      notices.trouble(error);
    }
    busy = '';
  }

  async function readTable(file: File): Promise<void> {
    await upload('POST', `${url}/table?name=${encodeURIComponent(file.name)}`, file);
    desk.tools.followed = null;
    await desk.reload();
  }
</script>

{#if shot.plate}
  <PlainField
    label="Tracking window"
    value={patch}
    unit="px"
    hint="Side of the tracked square, which is drawn around the position."
    onset={(v) => v !== null && (patch = Math.min(301, Math.max(7, Math.round(v))))}
  />
  <div class="flex flex-wrap gap-1.5 pt-1.5">
    <button
      class="button h-6! px-2! text-[11.5px]"
      disabled={busy !== ''}
      onclick={() => track(shot.first_frame, 'Tracking back')}>◂ Track back</button
    >
    <button
      class="button h-6! px-2! text-[11.5px]"
      disabled={busy !== ''}
      onclick={() => track(shot.last_frame, 'Tracking forward')}>Track forward ▸</button
    >
  </div>
  {#if busy}<p class="pt-1.5 text-soft" role="status">{busy} from frame {desk.player.frame} …</p>
  {:else if known}
    <p class="pt-1.5 text-soft" data-track>
      {known.sure.length} frames followed, at least {Math.round(least * 100)} % sure{#if known.lost !== null}; <span
          class="text-amber">⚠ lost at {known.lost}</span
        >{/if}.
    </p>
  {:else}
    <p class="pt-1.5 text-soft">Place it on a corner or a spot of the plate, and track from this frame.</p>
  {/if}
{:else}
  <p class="text-soft">Add a plate, and this can follow something that moves in it.</p>
{/if}
<div class="flex flex-wrap gap-1.5 pt-1.5">
  <a class="button h-6! px-2! text-[11.5px]" href="{url}/table" download>Table (CSV)</a>
  <FileButton text="Read a table …" label="Table of positions" accept=".csv,text/csv" ontake={readTable} />
</div>
