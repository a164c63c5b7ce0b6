<script lang="ts">
  import { drawn } from '../api/picture';
  import type { Scene } from './scene.svelte';

  /** The picture of a scene, as large as the window, coming in and going out over a second. */
  let { scene, shown, seconds }: { scene: Scene; shown: boolean; seconds: number } = $props();
  let canvas = $state<HTMLCanvasElement>();
  $effect(() => drawn(canvas, scene.player.picture));
</script>

<canvas
  bind:this={canvas}
  class="absolute inset-0 h-full w-full object-contain"
  style="opacity:{shown ? 1 : 0};transition:opacity {seconds}s linear"
  data-scene={scene.id}
  data-frame={scene.player.frame}
  aria-label="The picture of {scene.name}"
></canvas>
