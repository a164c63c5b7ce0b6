<script lang="ts">
  import { onMount } from 'svelte';
  import Cast from './cast/Cast.svelte';
  import Reach from './cast/Reach.svelte';
  import Chosen from './chosen/Chosen.svelte';
  import DeliverSheet from './deliver/DeliverSheet.svelte';
  import Birth from './desk/Birth.svelte';
  import End from './desk/End.svelte';
  import Lanes from './desk/Lanes.svelte';
  import { commandsOf, type Panel } from './keys/commands';
  import Finder from './keys/Finder.svelte';
  import KeySheet from './keys/KeySheet.svelte';
  import Versions from './look/Versions.svelte';
  import Library from './library/Library.svelte';
  import Picture from './picture/Picture.svelte';
  import PlateSheet from './plates/PlateSheet.svelte';
  import { Desk } from './state/desk.svelte';
  import { notices } from './state/notices.svelte';
  import { specs } from './state/specs.svelte';
  import Strip from './strip/Strip.svelte';
  import TopBar from './TopBar.svelte';

  let { id }: { id: number } = $props();

  // The screen is made anew for each shot, so the desk keeps the id it was made with.
  // svelte-ignore state_referenced_locally
  const desk = new Desk(id);
  let open = $state<Panel | null>(null);
  const commands = commandsOf(desk, (panel) => (open = panel));

  onMount(() => {
    Promise.all([specs.load(), desk.load()]).catch((error) => notices.trouble(error));
    return () => desk.close();
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
      (desk.picking || desk.framing || desk.recording || desk.comparing || desk.graph)
    ) {
      if (desk.picking || desk.framing || desk.recording) desk.picking = desk.framing = desk.recording = null;
      else if (desk.comparing) desk.comparing = null;
      else desk.graph = null;
      return;
    }
    const spin = at.getAttribute('role') === 'spinbutton' || at.getAttribute('role') === 'slider';
    const press = `${mod ? 'mod+' : ''}${event.shiftKey && event.key.length > 1 ? 'shift+' : ''}${event.key.length === 1 ? event.key.toLowerCase() : event.key}`;
    const key = mod && event.shiftKey && event.key.toLowerCase() === 'z' ? 'mod+shift+z' : press;
    if (spin && !mod && /^(Arrow|Enter|Backspace|Delete|[-0-9.(])/.test(event.key)) return;
    if (at.tagName === 'BUTTON' && (event.key === ' ' || event.key === 'Enter')) return;
    const command = commands.find((c) => c.key === key);
    if (command) {
      event.preventDefault();
      command.act();
    }
  }
</script>

<svelte:window onkeydown={keys} />

{#if desk.shot && desk.state && specs.ready}
  <div
    class="grid h-full grid-cols-[232px_minmax(0,1fr)_264px] overflow-hidden"
    style="grid-template-rows:40px minmax(0,1fr) {desk.graph ? 168 : 66}px 252px"
  >
    <header class="col-span-3 border-b border-line"><TopBar {desk} onopen={(p) => (open = p)} /></header>
    <aside class="row-span-2 overflow-y-auto border-r border-line">
      <Cast {desk} onplate={() => (open = 'plate')} onlibrary={() => (open = 'library')} />
      <Reach {desk} />
    </aside>
    <main class="min-w-0"><Picture {desk} /></main>
    <aside class="row-span-2 overflow-y-auto border-l border-line">
      <Chosen {desk} onplate={() => (open = 'plate')} />
    </aside>
    <section class="border-t border-line" aria-label="Shot strip"><Strip {desk} /></section>
    <section class="overflow-y-auto border-t border-r border-line" aria-label="Birth">
      <Birth {desk} />
    </section>
    <section class="min-w-0 overflow-hidden border-t border-line" aria-label="Life"><Lanes {desk} /></section>
    <section class="overflow-y-auto border-t border-l border-line" aria-label="End"><End {desk} /></section>
  </div>
  <PlateSheet
    {desk}
    bind:open={
      () => open === 'plate' || desk.choosing !== null,
      (yes) => {
        open = yes ? 'plate' : null;
        if (!yes) desk.choosing = null;
      }
    }
  />
  <Versions {desk} bind:open={() => open === 'versions', (yes) => (open = yes ? 'versions' : null)} />
  <DeliverSheet {desk} bind:open={() => open === 'deliver', (yes) => (open = yes ? 'deliver' : null)} />
  <Library {desk} bind:open={() => open === 'library', (yes) => (open = yes ? 'library' : null)} />
  <KeySheet {commands} bind:open={() => open === 'keys', (yes) => (open = yes ? 'keys' : null)} />
  <Finder {commands} bind:open={() => open === 'finder', (yes) => (open = yes ? 'finder' : null)} />
{:else}
  <p class="grid h-full place-items-center text-soft">Opening the shot …</p>
{/if}
