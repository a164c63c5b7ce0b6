<script lang="ts">
  import { onDestroy, onMount } from 'svelte';
  import { SvelteSet } from 'svelte/reactivity';
  import { api, got } from '../api/client';
  import { Conductor } from '../stage/conductor.svelte';
  import { notices } from '../state/notices.svelte';
  import { follow } from '../ui/drag';

  /** A desk of faders, pads and keys, and a walker: stand-ins for devices, in a separate window. */
  const FADERS = 8;
  const PADS = 8;
  /** An octave and its end, from middle C on: which keys are black. */
  const KEYS = [0, 1, 0, 1, 0, 0, 1, 0, 1, 0, 1, 0, 0].map((black, n) => ({
    note: 60 + n,
    black: black === 1,
  }));
  let conductor = $state.raw<Conductor | null>(null);
  let faders = $state<number[]>(Array<number>(FADERS).fill(0.5));
  const down = new SvelteSet<string>();
  let walker = $state<[number, number]>([0.5, 0.5]);
  let walks = $state(false);
  let timer = 0;

  onMount(async () => {
    try {
      const projects = await got(api.GET('/api/projects'));
      if (projects[0]) conductor = new Conductor(projects[0].id, () => {});
    } catch (error) {
      notices.trouble(error);
    }
  });
  onDestroy(() => {
    cancelAnimationFrame(timer);
    conductor?.close();
  });

  function put(n: number, value: number): void {
    faders[n] = Math.min(1, Math.max(0, value));
    conductor?.send(`/desk/${n + 1}`, faders[n]);
  }
  function slide(event: PointerEvent, n: number): void {
    const box = (event.currentTarget as Element).getBoundingClientRect();
    const at = (e: PointerEvent): number => 1 - (e.clientY - box.top - 10) / (box.height - 20);
    put(n, at(event));
    follow(event, { move: (e) => put(n, at(e)) });
  }
  function step(event: KeyboardEvent, n: number): void {
    const by = { ArrowUp: 0.02, ArrowRight: 0.02, ArrowDown: -0.02, ArrowLeft: -0.02 }[event.key];
    const end = { Home: 0, End: 1 }[event.key];
    if (by === undefined && end === undefined) return;
    event.preventDefault();
    put(n, end ?? faders[n]! + by!);
  }

  function press(address: string, value: number): void {
    if (value) down.add(address);
    else if (!down.delete(address)) return;
    conductor?.send(address, value);
  }

  function stand(x: number, y: number): void {
    walker = [Math.min(1, Math.max(0, x)), Math.min(1, Math.max(0, y))];
    conductor?.send('/walker', walker[0]);
    conductor?.send('/walker#2', walker[1]);
  }
  function lead(event: PointerEvent): void {
    walks = false;
    const box = (event.currentTarget as Element).getBoundingClientRect();
    const go = (e: PointerEvent): void =>
      stand((e.clientX - box.left) / box.width, 1 - (e.clientY - box.top) / box.height);
    go(event);
    follow(event, { move: go });
  }
  $effect(() => {
    if (!walks) return;
    const began = performance.now();
    const walk = (now: number): void => {
      const t = (now - began) / 1000;
      stand(0.5 + 0.4 * Math.sin(0.7 * t), 0.5 + 0.3 * Math.sin(1.4 * t));
      timer = requestAnimationFrame(walk);
    };
    timer = requestAnimationFrame(walk);
    return () => cancelAnimationFrame(timer);
  });
  function held(address: string, value: number): Record<string, (event: Event) => void> {
    return {
      onpointerdown: () => press(address, value),
      onpointerup: () => press(address, 0),
      onpointerleave: () => press(address, 0),
      onkeydown: (event) => {
        if ((event as KeyboardEvent).key === ' ' && !(event as KeyboardEvent).repeat) press(address, value);
      },
      onkeyup: () => press(address, 0),
    };
  }
</script>

<svelte:head><title>Fader desk</title></svelte:head>

<main
  class="fixed inset-0 flex flex-col gap-5 overflow-auto bg-ground p-6 select-none"
  data-desk={conductor ? 'there' : ''}
>
  <header class="flex items-baseline gap-3">
    <h1 class="text-[17px] font-semibold text-word">Fader desk</h1>
    <p class="text-soft">
      On-screen devices. A control learns an input that moves here: select it on the desk, press <em>Learn</em
      >, and move something.
    </p>
  </header>
  <div class="flex min-h-0 flex-1 flex-wrap gap-8">
    <section class="flex min-h-64 gap-3" aria-label="Faders">
      {#each faders as value, n (n)}
        <div class="flex w-14 flex-col items-center gap-2">
          <span class="text-soft tabular-nums">{value.toFixed(2)}</span>
          <div
            class="relative w-10 flex-1 cursor-ns-resize touch-none rounded-lg border border-line bg-well outline-offset-2"
            role="slider"
            tabindex="0"
            aria-label="Fader {n + 1}"
            aria-orientation="vertical"
            aria-valuemin="0"
            aria-valuemax="1"
            aria-valuenow={Number(value.toFixed(3))}
            onpointerdown={(e) => slide(e, n)}
            onkeydown={(e) => step(e, n)}
          >
            <span
              class="absolute inset-x-[18px] bottom-2.5 rounded-full bg-ice/70"
              style="height:calc({100 * value}% - {20 * value}px)"
            ></span>
            <span
              class="absolute right-1 left-1 h-5 translate-y-1/2 rounded border border-aurora/60 bg-raised shadow-md"
              style="bottom:calc(10px + {100 * value}% - {20 * value}px)"
              ><span class="absolute inset-x-1 top-1/2 h-px bg-aurora"></span></span
            >
          </div>
          <code class="text-[11px] text-soft">/desk/{n + 1}</code>
        </div>
      {/each}
    </section>
    <section class="flex flex-1 flex-col gap-2" aria-label="Walker">
      <div
        class="relative min-h-56 flex-1 cursor-crosshair touch-none rounded-lg border border-line bg-well"
        role="application"
        aria-label="Walker position"
        data-walker="{walker[0].toFixed(3)} {walker[1].toFixed(3)}"
        onpointerdown={lead}
      >
        <span class="absolute top-1/2 right-0 left-0 border-t border-line"></span>
        <span class="absolute inset-y-0 left-1/2 border-l border-line"></span>
        <span
          class="absolute size-6 -translate-x-1/2 translate-y-1/2 rounded-full border-2 border-aurora bg-aurora-ground"
          style="left:{100 * walker[0]}%;bottom:{100 * walker[1]}%"
        ></span>
      </div>
      <div class="flex items-center gap-3">
        <button class="button h-7! px-3!" aria-pressed={walks} onclick={() => (walks = !walks)}
          >{walks ? 'Stand still' : 'Walk'}</button
        >
        <code class="text-[11px] text-soft">/walker · /walker#2</code>
        <span class="text-soft tabular-nums">{walker[0].toFixed(2)} · {walker[1].toFixed(2)}</span>
      </div>
    </section>
  </div>
  <div class="flex flex-wrap items-end gap-8">
    <section class="grid grid-cols-4 gap-2" aria-label="Pads">
      {#each { length: PADS }, n (n)}
        {@const address = `/desk/pad/${n + 1}`}
        <button
          class="h-14 w-24 touch-none rounded-lg border text-[11px] {down.has(address)
            ? 'border-dawn bg-dawn/30 text-word'
            : 'border-line-strong bg-raised text-soft'}"
          aria-label="Pad {n + 1}"
          {...held(address, 1)}><code>/desk/pad/{n + 1}</code></button
        >
      {/each}
    </section>
    <section class="relative flex h-[120px]" aria-label="Keys">
      {#each KEYS as key (key.note)}
        {@const address = `/midi/1/note/${key.note}`}
        <button
          class="touch-none rounded-b-md border {key.black
            ? 'z-10 -mx-3.5 h-[72px] w-7 border-line-strong bg-well'
            : 'h-full w-11 border-line-strong bg-raised'} {down.has(address)
            ? 'border-dawn! bg-dawn/40!'
            : ''}"
          aria-label="Key {key.note}"
          title={address}
          {...held(address, 100)}
        ></button>
      {/each}
    </section>
  </div>
</main>
