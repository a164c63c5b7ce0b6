<script lang="ts">
  import { onDestroy, onMount } from 'svelte';
  import { SvelteSet } from 'svelte/reactivity';
  import { api, got } from '../api/client';
  import { listening } from '../state/listening.svelte';
  import { notices } from '../state/notices.svelte';
  import { Scene } from './scene.svelte';
  import Screen from './Screen.svelte';

  /** The picture alone, for a second window or screen: it plays without end. */
  let { id }: { id: number } = $props();
  const CROSS_S = 1;
  const BLACK_S = 0.5;
  let scenes = $state.raw<Scene[]>([]);
  let now = $state.raw<Scene | null>(null);
  let black = $state(false);
  let frozen = $state(false);
  let stirred = $state(true);
  let set = $state.raw<number[]>([]);
  const coming = new SvelteSet<number>();
  const sizes = (): [number, number] => [innerWidth * devicePixelRatio, innerHeight * devicePixelRatio];

  /** Bring a shot onto the stage: when its first picture is there, it fades in over what is shown. */
  async function bring(shot: number): Promise<void> {
    if (coming.has(shot) || now?.id === shot) return;
    coming.add(shot);
    const scene = new Scene(shot);
    try {
      await scene.load();
      scene.begin(...sizes());
      scenes = [...scenes, scene];
      for (let waited = 0; !scene.player.picture && waited < 20_000; waited += 50)
        await new Promise((go) => setTimeout(go, 50));
      const before = now;
      now = scene;
      frozen = false;
      if (before)
        setTimeout(() => {
          before.close();
          scenes = scenes.filter((one) => one !== before);
        }, CROSS_S * 1000);
    } catch (error) {
      scene.close();
      notices.trouble(error);
    } finally {
      coming.delete(shot);
    }
  }

  /** The shots of the project, in its order. */
  async function known(): Promise<number[]> {
    if (set.length === 0) {
      const projects = await got(api.GET('/api/projects'));
      set = projects
        .find((one) => one.shots.some((shot) => shot.id === id))
        ?.shots.map((shot) => shot.id) ?? [id];
    }
    return set;
  }

  /** The next shot of the project, or the one before. */
  async function go(by: number): Promise<void> {
    try {
      const shots = await known();
      const at = shots.indexOf(now?.id ?? id);
      if (shots.length > 1 && at >= 0) await bring(shots[(at + by + shots.length) % shots.length]!);
    } catch (error) {
      notices.trouble(error);
    }
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
    for (const scene of scenes) scene.close();
  });

  let timer: ReturnType<typeof setTimeout> | undefined;
  function stir(): void {
    stirred = true;
    clearTimeout(timer);
    timer = setTimeout(() => (stirred = false), 2500);
  }
  $effect(() => stir());

  function keys(event: KeyboardEvent): void {
    const act = {
      ' ': () => {
        frozen = !frozen;
        now?.player.play(!frozen);
      },
      b: () => (black = !black),
      ArrowRight: () => void go(1),
      PageDown: () => void go(1),
      ArrowLeft: () => void go(-1),
      PageUp: () => void go(-1),
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
  onpointermove={stir}
  onresize={() => scenes.forEach((one) => one.resize(...sizes()))}
/>

<main
  class="fixed inset-0 bg-black"
  class:cursor-none={!stirred}
  data-stage={now?.id ?? ''}
  data-frozen={frozen}
>
  <h1 class="sr-only">Stage: {now?.name ?? ''}</h1>
  {#each scenes as scene (scene)}
    <Screen {scene} shown={scene === now} seconds={CROSS_S} />
  {/each}
  <div
    class="pointer-events-none absolute inset-0 bg-black"
    style="opacity:{black ? 1 : 0};transition:opacity {BLACK_S}s linear"
    data-black={black}
  ></div>
  {#if stirred && now}
    <p
      class="absolute bottom-4 left-1/2 -translate-x-1/2 rounded-full bg-ground/85 px-4 py-1.5 whitespace-nowrap text-soft"
      data-told
    >
      <span class="font-semibold text-word">{now.name}</span>
      {(now.player.header?.fps ?? 0).toFixed(1)} fps{#if (now.player.header?.reduced ?? 1) < 1}, at {Math.round(
          100 * now.player.header!.reduced,
        )} % of its size{/if}
      {#if black}<span class="text-dawn">&ensp;black</span>{/if}
      {#if frozen}<span class="text-dawn">&ensp;frozen</span>{/if}
      {#if !now.player.connected}<span class="text-amber">&ensp;the studio does not answer; trying again</span
        >{/if}
      &ensp;<kbd>Space</kbd> freeze <kbd>B</kbd> black <kbd>←</kbd> <kbd>→</kbd> shots <kbd>F</kbd> full
      screen
      <kbd>M</kbd> sound
    </p>
  {/if}
</main>
