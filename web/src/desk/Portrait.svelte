<script lang="ts">
  import type { Desk } from '../state/desk.svelte';

  let { desk, labelWidth }: { desk: Desk; labelWidth: number } = $props();
  const emitter = $derived(desk.emitter);
  const cell = 40;
  let width = $state(0);
  const count = $derived(Math.max(2, Math.round(width / cell)));
  let src = $state('');

  // The engine draws it, for the picture that is shown: not for each step of a drag.
  $effect(() => {
    const id = emitter?.id;
    const key = `${desk.player.header?.revision}`;
    if (!id || width < cell || desk.shaping || desk.player.playing) return;
    const url = `/api/shots/${desk.id}/emitters/${encodeURIComponent(id)}/portrait?frame=${desk.player.frame}&count=${count}&cell=${cell}&of=${key}`;
    const timer = setTimeout(() => {
      const image = new Image();
      image.src = url;
      image.decode().then(
        () => (src = url),
        () => undefined,
      );
    }, 120);
    return () => clearTimeout(timer);
  });
</script>

<div class="flex items-stretch pb-1" style="height:{cell + 4}px" data-lane="body">
  <div class="shrink-0 pl-3" style="width:{labelWidth}px">
    <div class="font-semibold">Body</div>
    <div class="text-[11px] leading-tight text-soft">by age</div>
  </div>
  <div class="min-w-0 flex-1 overflow-hidden rounded bg-surround" bind:clientWidth={width}>
    {#if src}<img {src} alt="A particle of {emitter?.name} from birth to death" class="h-full w-full" />{/if}
  </div>
</div>
