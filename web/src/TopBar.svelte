<script lang="ts">
  import type { Panel } from './keys/commands';
  import type { Desk } from './state/desk.svelte';
  import { place } from './state/place.svelte';
  import { theme } from './state/theme.svelte';
  import Bear from './ui/Bear.svelte';
  import Icon from './ui/Icon.svelte';
  import { framesPerSecond } from './ui/rates';

  let { desk, onopen }: { desk: Desk; onopen: (panel: Panel) => void } = $props();
  const shot = $derived(desk.shot!);
  const seconds = $derived((shot.last_frame - shot.first_frame + 1) / framesPerSecond(shot.rate));
</script>

<div class="flex h-full flex-wrap items-center gap-x-3 gap-y-1 px-3 py-1 whitespace-nowrap">
  <button
    class="flex items-center gap-2 text-word hover:text-aurora"
    aria-label="All projects"
    onclick={() => place.go('/')}
  >
    <Bear size={27} /><span class="text-soft">Projects</span>
  </button>
  <span class="text-soft">▸</span>
  <input
    class="w-40 rounded bg-transparent px-1 font-semibold hover:bg-raised"
    aria-label="Shot name"
    value={shot.name}
    onchange={(e) =>
      e.currentTarget.value.trim() && desk.set('/name', e.currentTarget.value.trim(), 'Rename the shot')}
    onkeydown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
  />
  <button
    class="rounded-md px-2 py-1 hover:bg-raised"
    class:text-aurora={desk.selection.kind === 'shot'}
    title="Size, rate and length of the shot"
    onclick={() => (desk.selection = { kind: 'shot' })}
  >
    {shot.width} × {shot.height} · {Number(framesPerSecond(shot.rate).toFixed(3))} fps · {Number(
      seconds.toFixed(2),
    )} s
  </button>
  <span class="h-4 border-l border-line-strong"></span>
  <button
    class="quiet"
    disabled={!desk.state?.undo}
    aria-label="Undo"
    title={desk.state?.undo ? `Undo: ${desk.state.undo}` : 'Nothing to undo'}
    onclick={desk.undo}><Icon name="undo" /></button
  >
  <button
    class="quiet"
    disabled={!desk.state?.redo}
    aria-label="Redo"
    title={desk.state?.redo ? `Redo: ${desk.state.redo}` : 'Nothing to redo'}
    onclick={desk.redo}><Icon name="redo" /></button
  >
  <span class="flex-1"></span>
  {#if !desk.player.connected}<span class="text-amber">⚠ The studio does not answer; trying again</span>{/if}
  <span class="text-[11.5px] text-soft" data-saved={desk.edits.saving ? 'no' : 'yes'}
    >{desk.edits.saving ? 'Saving …' : `Saved, revision ${desk.state?.revision}`}</span
  >
  <button
    class="quiet"
    title="Find a command (Ctrl K)"
    aria-label="Find a command"
    onclick={() => onopen('finder')}><Icon name="search" /></button
  >
  <button class="quiet" title="Help (?)" aria-label="Help" onclick={() => onopen('keys')}>?</button>
  <button class="quiet" title="Change the theme" aria-label="Change the theme" onclick={() => theme.toggle()}
    ><Icon name={theme.name === 'polar-night' ? 'sun' : 'moon'} /></button
  >
  <button
    class="quiet"
    title="Stage: the picture alone in a new window, for a second screen"
    aria-label="Stage"
    onclick={() => window.open(`/stage/${desk.id}`, `stage-${desk.id}`)}><Icon name="stage" /></button
  >
  <button
    class="button"
    aria-pressed={desk.tools.comparing !== null}
    title="Versions: save, compare and restore states of the shot (V)"
    onclick={() => onopen('versions')}><Icon name="compare" size={14} /> Versions</button
  >
  <button class="button main" onclick={() => onopen('deliver')}>Deliver</button>
</div>
