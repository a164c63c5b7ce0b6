<script lang="ts">
  import './special_controls';
  import { onMount } from 'svelte';
  import Cast from './cast/Cast.svelte';
  import Reach from './cast/Reach.svelte';
  import Properties from './properties/Properties.svelte';
  import Birth from './desk/Birth.svelte';
  import End from './desk/End.svelte';
  import Lanes from './desk/Lanes.svelte';
  import { commandsOf, type Panel } from './keys/commands';
  import Finder from './keys/Finder.svelte';
  import Picture from './picture/Picture.svelte';
  import { Desk } from './state/desk.svelte';
  import { shortcutSettings } from './state/shortcut_settings.svelte';
  import { specs } from './state/specs.svelte';
  import { panelLayout } from './state/panel_layout.svelte';
  import Timeline from './timeline/Timeline.svelte';
  import TopBar from './TopBar.svelte';
  import Later from './ui/Later.svelte';
  import Splitter from './ui/Splitter.svelte';

  let { id }: { id: number } = $props();

  // The screen is created for each shot, so the desk keeps its id.
  // svelte-ignore state_referenced_locally
  const desk = new Desk(id);
  let open = $state<Panel | null>(null);
  /** Why the shot cannot be opened. */
  let closed = $state('');
  const commands = commandsOf(desk, (panel) => (open = panel));
  /** Sheets are loaded when they are first opened. */
  const sheets = {
    plate: () => import('./plates/PlateSheet.svelte'),
    model: () => import('./body/ModelSheet.svelte'),
    versions: () => import('./review/Versions.svelte'),
    deliver: () => import('./deliver/DeliverSheet.svelte'),
    library: () => import('./library/Library.svelte'),
    keys: () => import('./help/Help.svelte'),
    sweep: () => import('./sweep/SweepSheet.svelte'),
    variations: () => import('./sweep/VariationsSheet.svelte'),
  };

  /** The pointer moved recently. */
  let stirred = $state(false);
  let calm: ReturnType<typeof setTimeout> | null = null;
  function stir(): void {
    stirred = true;
    if (calm) clearTimeout(calm);
    calm = setTimeout(() => (stirred = false), 1800);
  }

  onMount(() => {
    Promise.all([specs.load(), desk.load()]).catch((error: unknown) => {
      closed = error instanceof Error ? error.message : String(error);
    });
    return () => desk.close();
  });

  $effect(() => {
    if (desk.shot) document.title = `${desk.shot.name} – Isbjorn`;
  });

  function keys(event: KeyboardEvent): void {
    const at = event.target as HTMLElement;
    const busy = at.closest('input, textarea, [role="dialog"], [role="listbox"]') !== null;
    const mod = event.ctrlKey || event.metaKey;
    if (mod && event.key.toLowerCase() === 'k') {
      event.preventDefault();
      open = open === 'finder' ? null : 'finder';
      return;
    }
    if (busy || open) return;
    // What is open above the screen closes first.
    if (event.key === 'Escape' && document.querySelector('[data-popover-content], [role="menu"]')) return;
    if (
      event.key === 'Escape' &&
      (panelLayout.alone ||
        desk.tools.picking ||
        desk.tools.framing ||
        desk.tools.recording ||
        desk.tools.comparing ||
        desk.tools.graph)
    ) {
      if (panelLayout.alone && !desk.tools.picking && !desk.tools.framing && !desk.tools.recording)
        panelLayout.alone = false;
      else if (desk.tools.picking || desk.tools.framing || desk.tools.recording)
        desk.tools.picking = desk.tools.framing = desk.tools.recording = null;
      else if (desk.tools.comparing) desk.tools.comparing = null;
      else desk.tools.graph = null;
      return;
    }
    const spin = at.getAttribute('role') === 'spinbutton' || at.getAttribute('role') === 'slider';
    const press = `${mod ? 'mod+' : ''}${event.shiftKey && event.key.length > 1 ? 'shift+' : ''}${event.key.length === 1 ? event.key.toLowerCase() : event.key}`;
    const key = mod && event.shiftKey && event.key.toLowerCase() === 'z' ? 'mod+shift+z' : press;
    if (spin && !mod && /^(Arrow|Enter|Backspace|Delete|[-0-9.(])/.test(event.key)) return;
    if (at.tagName === 'BUTTON' && (event.key === ' ' || event.key === 'Enter')) return;
    // Single letters act only where nothing else takes them, and not at all if they are switched off.
    const single = !mod && event.key.length === 1 && event.key !== ' ';
    const takes = at.closest(
      '[role="switch"], [role="radio"], [role="checkbox"], [role="slider"], [role="spinbutton"]',
    );
    if (single && (!shortcutSettings.on || takes)) return;
    // A row has the focus but another one is selected: the target would be ambiguous.
    if ((single || event.key === 'Delete') && at.closest('[aria-current="false"]')) return;
    const command = commands.find((c) => c.key === key);
    if (command) {
      event.preventDefault();
      command.act();
    }
  }
</script>

<svelte:window onkeydown={keys} />

{#if desk.shot && desk.state && specs.ready}
  <nav aria-label="Skip to" class="skips">
    {#each [['picture', 'Skip to the picture'], ['chosen', 'Skip to the properties'], ['life', 'Skip to the desk']] as const as [id, word] (id)}
      <a
        href="#{id}"
        onclick={(e) => {
          e.preventDefault();
          document.getElementById(id)?.focus();
        }}>{word}</a
      >
    {/each}
  </nav>
  <div
    class="desk relative grid h-full overflow-hidden"
    class:alone={panelLayout.alone}
    class:stirred
    class:no-left={panelLayout.folded.left}
    class:no-right={panelLayout.folded.right}
    class:no-low={panelLayout.folded.low}
    style="--strip:{66 +
      (desk.shot.sounds.length ? 41 : 0) +
      (desk.tools.graph ? 102 : 0)}px;--left:{panelLayout.px('left')}px;--right:{panelLayout.px(
      'right',
    )}px;--low:{panelLayout.px('low')}px"
    onpointermove={stir}
    role="presentation"
  >
    <header class="top col-span-3 border-b border-line">
      <h1 class="sr-only">{desk.shot.name}</h1>
      <TopBar {desk} onopen={(p) => (open = p)} />
    </header>
    <aside class="cast row-span-2 overflow-y-auto border-r border-line" aria-label="Cast and reach">
      <Cast {desk} onplate={() => (open = 'plate')} onlibrary={() => (open = 'library')} />
      <Reach {desk} />
    </aside>
    <main class="picture relative min-w-0">
      <Picture {desk} />
      {#if desk.state.damage?.length}
        <p
          class="absolute top-12 right-2.5 left-2.5 rounded-lg border border-[#f2b950] bg-[#101214f0] px-3 py-1.5 text-[#f2d49a]"
          role="alert"
        >
          ⚠ A part of the kept shot cannot be read, and is left out: {desk.state.damage.join(' ')} The next edit
          keeps what is here; undo goes back to what was.
        </p>
      {/if}
    </main>
    <aside
      class="chosen row-span-2 overflow-y-auto border-l border-line"
      id="chosen"
      tabindex="-1"
      aria-label="Properties"
    >
      <Properties {desk} onplate={() => (open = 'plate')} />
    </aside>
    <section class="strip border-t border-line" aria-label="Shot strip"><Timeline {desk} /></section>
    <section class="birth overflow-y-auto border-t border-r border-line" aria-label="Birth">
      <Birth {desk} />
    </section>
    <section
      class="life min-w-0 overflow-hidden border-t border-line"
      id="life"
      tabindex="-1"
      aria-label="Life"
    >
      <Lanes {desk} />
    </section>
    <section class="end overflow-y-auto border-t border-l border-line" aria-label="End">
      <End {desk} />
    </section>
    <section class="room contents" aria-label="Room">
      <Splitter side="left" label="Width of the cast" what="the cast" />
      <Splitter side="right" label="Width of the properties" what="the properties" />
      <Splitter side="low" label="Height of the desk" what="the desk" />
    </section>
  </div>
  <Later load={sheets.plate} wanted={open === 'plate' || desk.tools.choosing !== null}>
    {#snippet children(PlateSheet)}
      <PlateSheet
        {desk}
        bind:open={
          () => open === 'plate' || desk.tools.choosing !== null,
          (yes) => {
            open = yes ? 'plate' : null;
            if (!yes) desk.tools.choosing = null;
          }
        }
      />
    {/snippet}
  </Later>
  <Later load={sheets.model} wanted={desk.tools.choosingModel !== null}>
    {#snippet children(ModelSheet)}
      <ModelSheet
        {desk}
        bind:open={
          () => desk.tools.choosingModel !== null,
          (yes) => {
            if (!yes) desk.tools.choosingModel = null;
          }
        }
      />
    {/snippet}
  </Later>
  <Later load={sheets.sweep} wanted={desk.tools.sweeping !== null}>
    {#snippet children(SweepSheet)}
      {#if desk.tools.sweeping}
        <SweepSheet {desk} path={desk.tools.sweeping} onclose={() => (desk.tools.sweeping = null)} />
      {/if}
    {/snippet}
  </Later>
  <Later load={sheets.variations} wanted={desk.tools.varying !== null}>
    {#snippet children(VariationsSheet)}
      {#if desk.tools.varying}
        <VariationsSheet {desk} thing={desk.tools.varying} onclose={() => (desk.tools.varying = null)} />
      {/if}
    {/snippet}
  </Later>
  <Later load={sheets.versions} wanted={open === 'versions'}>
    {#snippet children(Versions)}
      <Versions {desk} bind:open={() => open === 'versions', (yes) => (open = yes ? 'versions' : null)} />
    {/snippet}
  </Later>
  <Later load={sheets.deliver} wanted={open === 'deliver'}>
    {#snippet children(DeliverSheet)}
      <DeliverSheet {desk} bind:open={() => open === 'deliver', (yes) => (open = yes ? 'deliver' : null)} />
    {/snippet}
  </Later>
  <Later load={sheets.library} wanted={open === 'library'}>
    {#snippet children(Library)}
      <Library {desk} bind:open={() => open === 'library', (yes) => (open = yes ? 'library' : null)} />
    {/snippet}
  </Later>
  <Later load={sheets.keys} wanted={open === 'keys'}>
    {#snippet children(Help)}
      <Help {commands} bind:open={() => open === 'keys', (yes) => (open = yes ? 'keys' : null)} />
    {/snippet}
  </Later>
  <Finder {commands} bind:open={() => open === 'finder', (yes) => (open = yes ? 'finder' : null)} />
{:else if closed}
  <div class="grid h-full place-content-center gap-3 text-center" role="alert">
    <p>{closed}</p>
    <p><a class="button" href="/">All projects</a></p>
  </div>
{:else}
  <p class="grid h-full place-items-center text-soft">Opening the shot …</p>
{/if}

<style>
  .desk {
    grid-template-columns: var(--left) minmax(0, 1fr) var(--right);
    grid-template-rows: 40px minmax(0, 1fr) var(--strip) minmax(0, min(var(--low), calc(100vh - 290px)));
  }
  /* Folded away: nothing of it can be reached. */
  .desk.no-left > :global(.cast),
  .desk.no-right > :global(.chosen),
  .desk.no-low > :global(.birth),
  .desk.no-low > :global(.life),
  .desk.no-low > :global(.end) {
    visibility: hidden;
    border: 0;
  }
  /* The picture alone: the strip comes when it is wanted, and what lies on the picture goes when nothing stirs. */
  .desk.alone > :global(*) {
    display: none;
  }
  .desk.alone > :global(.picture) {
    position: absolute;
    inset: 0;
    display: block;
  }
  .desk.alone > :global(.strip) {
    position: absolute;
    right: 0;
    bottom: 0;
    left: 0;
    display: block;
    height: var(--strip);
    background: var(--ground);
    opacity: 0;
    transition: opacity 150ms;
  }
  .desk.alone > :global(.strip:hover),
  .desk.alone > :global(.strip:focus-within) {
    opacity: 1;
  }
  .desk.alone:not(.stirred) :global([data-over]:not(:focus-within)) {
    opacity: 0;
  }
  .skips a {
    position: absolute;
    top: -60px;
    left: 8px;
    z-index: 80;
    padding: 6px 12px;
    border-radius: 8px;
    background: var(--aurora);
    color: var(--on-aurora);
  }
  .skips a:focus {
    top: 4px;
  }
  /* Enlarged, or on a small screen: one below the other, nothing out of reach. */
  @media (max-width: 960px), (max-height: 560px) {
    .desk {
      display: flex;
      flex-direction: column;
      overflow-y: auto;
    }
    .desk > :global(*) {
      flex-shrink: 0;
      overflow: visible;
    }
    .desk > :global(.room) {
      display: none;
    }
    /* The picture first: it is what all the rest is about. */
    .top {
      order: -3;
    }
    .picture {
      order: -2;
      height: max(260px, 60vh);
    }
    .strip {
      order: -1;
    }
    .life {
      height: 320px;
      overflow: hidden;
    }
  }
</style>
