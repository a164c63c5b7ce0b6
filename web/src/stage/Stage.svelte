<script lang="ts">
  import { onDestroy, onMount } from 'svelte';
  import { SvelteMap, SvelteSet } from 'svelte/reactivity';
  import { api, got, type SetList, type Trigger } from '../api/client';
  import { listening } from '../state/listening.svelte';
  import { notices } from '../state/notices.svelte';
  import { Conductor, pointed } from './conductor.svelte';
  import { Scene } from './scene.svelte';
  import Screen from './Screen.svelte';
  import SetPanel from './SetPanel.svelte';
  import { Tape } from './tape.svelte';

  /** The picture alone, for a second window or screen: it plays without end. */
  let { id }: { id: number } = $props();
  const BLACK_S = 0.5;
  let scenes = $state.raw<Scene[]>([]);
  let now = $state.raw<Scene | null>(null);
  let black = $state(false);
  let frozen = $state(false);
  let stirred = $state(true);
  let listed = $state(false);
  let fade = $state(1);
  let set = $state.raw<SetList>({ entries: [], addresses: {}, width: 0 });
  let conductor: Conductor | null = null;
  const tape = new Tape((samples) => conductor?.hear(samples));
  const names = new SvelteMap<number, string>();
  const coming = new SvelteSet<number>();
  const touches: number[] = [];
  const sizes = (): [number, number, number] => [
    innerWidth * devicePixelRatio,
    innerHeight * devicePixelRatio,
    set.width,
  ];
  const header = $derived(now?.player.header ?? null);
  const awaited = $derived([...coming].map((id) => scenes.find((one) => one.id === id)?.name ?? ''));
  const latency = $derived(header && 'latency_ms' in header ? header.latency_ms : null);

  /** Bring a shot onto the stage: when its first picture arrives, it fades in over the current one. */
  async function bring(shot: number): Promise<void> {
    if (coming.has(shot) || now?.id === shot) return;
    coming.add(shot);
    const entry = set.entries.find((one) => one.shot === shot);
    const scene = new Scene(shot, entry?.plays ?? 'as it suits');
    try {
      await scene.load();
      await ready(scene);
      scene.begin(...sizes());
      scenes = [...scenes, scene];
      for (let waited = 0; !scene.player.picture && waited < 20_000; waited += 50)
        await new Promise((go) => setTimeout(go, 50));
      const before = now;
      fade = entry?.fade_s ?? 1;
      now = scene;
      frozen = false;
      if (before)
        setTimeout(() => {
          before.close();
          scenes = scenes.filter((one) => one !== before);
        }, fade * 1000);
    } catch (error) {
      scene.close();
      notices.trouble(error);
    } finally {
      coming.delete(shot);
    }
  }

  /** With the first shot: know the set list of its project, and hear what triggers. */
  async function ready(scene: Scene): Promise<void> {
    if (conductor) return;
    conductor = new Conductor(scene.project, act);
    const params = { path: { project_id: scene.project } };
    const projects = await got(api.GET('/api/projects'));
    for (const shot of projects.find((one) => one.id === scene.project)?.shots ?? [])
      names.set(shot.id, shot.name);
    set = await got(api.GET('/api/projects/{project_id}/set', { params }));
  }

  async function keep(body: SetList): Promise<void> {
    const before = set;
    set = body;
    try {
      const params = { path: { project_id: now!.project } };
      set = await got(api.PUT('/api/projects/{project_id}/set', { params, body }));
      if (before.width !== set.width) scenes.forEach((one) => one.resize(...sizes()));
    } catch (error) {
      set = before;
      notices.trouble(error);
    }
  }

  /** The next shot of the list, or the one before. */
  function go(by: number): void {
    const shots = set.entries.map((one) => one.shot);
    const at = shots.indexOf(now?.id ?? id);
    if (shots.length) void bring(shots[(at + by + shots.length) % shots.length]!);
  }

  function freeze(): void {
    frozen = !frozen;
    now?.player.play(!frozen);
  }

  function act(trigger: Trigger): void {
    if (trigger.act === 'shot' && trigger.shot !== null && trigger.shot !== undefined)
      void bring(trigger.shot);
    else if (trigger.act === 'next') go(1);
    else if (trigger.act === 'previous') go(-1);
    else if (trigger.act === 'black') black = !black;
    else if (trigger.act === 'freeze') freeze();
    else now?.again();
  }

  onMount(() => {
    void bring(id);
  });
  $effect(() => {
    const scene = now;
    if (!scene?.shot) return;
    void [scene.player.header, scene.player.playing];
    listening.picture(scene.id, scene.shot, scene.player);
  });
  onDestroy(() => {
    listening.stop();
    tape.stop();
    conductor?.close();
    for (const scene of scenes) scene.close();
  });

  let timer: ReturnType<typeof setTimeout> | undefined;
  function stir(): void {
    stirred = true;
    clearTimeout(timer);
    timer = setTimeout(() => (stirred = false), 2500);
  }
  $effect(() => stir());

  /** The pointer and every touch are devices too. */
  function point(event: PointerEvent): void {
    stir();
    if (!now?.shot || !conductor) return;
    const touch = event.pointerType === 'touch';
    if (touch && event.type === 'pointerdown' && !touches.includes(event.pointerId))
      touches.push(event.pointerId);
    const nth = touch ? Math.max(0, touches.indexOf(event.pointerId)) : 0;
    if (touch && (event.type === 'pointerup' || event.type === 'pointercancel'))
      touches.splice(touches.indexOf(event.pointerId), 1);
    for (const one of pointed(event, now.shot.width, now.shot.height, nth)) conductor.send(...one);
  }

  function keys(event: KeyboardEvent): void {
    if (event.target instanceof HTMLInputElement) return;
    const act = {
      ' ': freeze,
      b: () => (black = !black),
      r: () => now?.again(),
      k: () => now?.performed?.keep(),
      l: () => (listed = !listed),
      t: () =>
        void tape
          .toggle()
          .catch((error: unknown) =>
            notices.say(
              `There is no sound input to listen to: ${error instanceof Error ? error.message : ''}`,
            ),
          ),
      ArrowRight: () => go(1),
      PageDown: () => go(1),
      ArrowLeft: () => go(-1),
      PageUp: () => go(-1),
      f: () =>
        void (document.fullscreenElement
          ? document.exitFullscreen()
          : document.documentElement.requestFullscreen()),
      m: () => (listening.muted = !listening.muted),
    }[event.key.length === 1 ? event.key.toLowerCase() : event.key];
    if (!act || event.ctrlKey || event.metaKey || event.altKey) return;
    event.preventDefault();
    act();
  }
</script>

<svelte:head><title>{now?.name ?? 'Stage'} · stage</title></svelte:head>
<svelte:window
  onkeydown={keys}
  onpointermove={point}
  onpointerdown={point}
  onpointerup={point}
  onpointercancel={point}
  onresize={() => scenes.forEach((one) => one.resize(...sizes()))}
/>

<main
  class="fixed inset-0 touch-none bg-black"
  class:cursor-none={!stirred && !listed}
  data-stage={now?.id ?? ''}
  data-frozen={frozen}
  data-performed={now?.performed ? 'yes' : 'no'}
  data-latency={latency ?? ''}
>
  <h1 class="sr-only">Stage: {now?.name ?? ''}</h1>
  {#each scenes as scene (scene)}
    <Screen {scene} shown={scene === now} seconds={fade} />
  {/each}
  <div
    class="pointer-events-none absolute inset-0 bg-black"
    style="opacity:{black ? 1 : 0};transition:opacity {BLACK_S}s linear"
    data-black={black}
  ></div>
  {#if (awaited.length || now?.slow) && !frozen && (stirred || listed || !now)}
    <p
      class="absolute top-4 rounded-lg bg-ground/85 px-4 py-1.5 text-amber {listed
        ? 'left-4 max-w-[calc(100vw-440px)]'
        : 'left-1/2 max-w-[96vw] -translate-x-1/2'}"
      role="status"
      data-slow
    >
      {#if awaited.length}Making the first picture of {awaited.join(', ') || 'the shot'} …{:else}{now?.slow}{/if}
    </p>
  {/if}
  {#if (stirred || listed) && now}
    <p
      class="absolute bottom-4 left-1/2 flex max-w-[96vw] -translate-x-1/2 items-baseline gap-3 rounded-full bg-ground/85 px-4 py-1.5 whitespace-nowrap text-soft [&_kbd]:pl-1.5 [&_kbd]:font-semibold [&_kbd]:text-word"
      class:left-4={listed}
      class:translate-x-0={listed}
      data-caption
    >
      <span class="font-semibold text-word">{now.name}</span>
      <span class="tabular-nums"
        >{(header?.fps ?? 0).toFixed(1)} fps{#if (header?.reduced ?? 1) < 1}, at {Math.round(
            100 * header!.reduced,
          )} % of its size{/if}</span
      >
      {#if latency !== null}<span
          class="tabular-nums"
          title="Time from an incoming value to its picture on the screen, for 95 of 100 values"
          >{latency.toFixed(0)} ms behind the hand</span
        >{/if}
      {#if black}<span class="text-dawn">black</span>{/if}
      {#if frozen}<span class="text-dawn">frozen</span>{/if}
      {#if tape.on}<span class="text-ice">listens for timecode</span>{/if}
      {#if now.player.problem}<span class="text-amber">{now.player.problem.what}</span>{/if}
      {#if !now.player.connected}<span class="text-amber">the studio does not answer; trying again</span>{/if}
      {#if !listed}
        <span
          ><kbd>Space</kbd> freeze <kbd>B</kbd> black <kbd>←</kbd> <kbd>→</kbd> shots <kbd>R</kbd> anew
          {#if now.performed}<kbd>K</kbd> keep as a take{/if}
          <kbd>L</kbd> set list <kbd>T</kbd> timecode <kbd>F</kbd> full screen <kbd>M</kbd> sound</span
        >
      {/if}
    </p>
  {/if}
  {#if listed && now}
    <SetPanel
      {set}
      {names}
      now={now.id}
      onset={(body) => void keep(body)}
      onbring={(shot) => void bring(shot)}
    />
  {/if}
</main>
