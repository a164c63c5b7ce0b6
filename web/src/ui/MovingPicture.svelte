<script lang="ts" module>
  // One after the other: a first drawing takes seconds, and the page has few connections.
  let last: Promise<unknown> = Promise.resolve();

  function inTurn(src: string, wanted: () => boolean): Promise<boolean> {
    const mine = last.then(async () => {
      if (!wanted()) return false;
      const image = new Image();
      image.src = src;
      await image.decode();
      return true;
    });
    last = mine.catch(() => undefined);
    return mine;
  }
</script>

<script lang="ts">
  /** Frames one under the other, shown in turn. */
  let { src, frames, ratio }: { src: string; frames: number; ratio: string } = $props();
  let shown = $state('');

  $effect(() => {
    const url = src;
    let here = true;
    inTurn(url, () => here).then(
      (came) => came && here && (shown = url),
      () => undefined,
    );
    return () => (here = false);
  });
</script>

<div
  class="relative grid aspect-video place-items-center overflow-hidden bg-surround"
  style="container-type:size"
>
  {#if shown}
    <div
      class="strip"
      data-moving
      style="background-image:url({shown}); aspect-ratio:{ratio}; background-size:100% {frames *
        100}%; animation-timing-function:steps({frames}, jump-none)"
    ></div>
  {:else}
    <span class="drawing text-[11.5px] text-[#c9cccc]"></span>
  {/if}
</div>

<style>
  .strip {
    width: 100%;
    animation: run 2s infinite;
  }
  .drawing::before {
    content: 'Rendering preview …';
  }
  @keyframes run {
    from {
      background-position: 0 0;
    }
    to {
      background-position: 0 100%;
    }
  }
</style>
