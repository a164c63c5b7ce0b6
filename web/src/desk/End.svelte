<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import Fields from '../fields/Fields.svelte';
  import { shown } from '../ui/arithmetic';

  let { desk }: { desk: Desk } = $props();
  const emitter = $derived(desk.emitter);
  const forecast = $derived(desk.guides?.forecast ?? null);
  const rounded = (ms: number): string =>
    ms < 1 ? '1' : number(ms < 10 ? Number(ms.toFixed(1)) : Math.round(ms));
  /** Milliseconds of a frame at the size shown, and of this emitter. */
  const cost = $derived.by(() => {
    const all = desk.scene?.cost;
    const [width, height] = desk.player.pictureSize;
    if (!all || !emitter) return null;
    const at = (one: { fixed_ms: number; mpx_ms: number }): number =>
      one.fixed_ms + (one.mpx_ms * width * height) / 1e6;
    const own = all.emitters[emitter.id];
    return { all: at(all), own: own ? at(own) : 0 };
  });
  const taken = $derived.by(() => {
    if (!cost) return '';
    const due = 1000 / desk.player.fps;
    const late = cost.all > due ? ` Real time needs ${rounded(due)} ms.` : '';
    return emitter?.on
      ? `About ${rounded(cost.own)} ms of the ${rounded(cost.all)} ms per frame at this size.${late}`
      : `About ${rounded(cost.all)} ms per frame at this size.${late}`;
  });
  const number = new Intl.NumberFormat('en').format;
  const models = $derived.by(() => {
    const bytes = desk.scene?.cost?.models_bytes ?? 0;
    return bytes < 1048576 ? '' : ` Models: ${number(Math.round(bytes / 1048576))} MB.`;
  });
  const life = $derived.by(() => {
    if (!forecast) return '';
    if (forecast.life_to_s === null) return 'Particles never die.';
    const [from, to] = [shown(forecast.life_from_s), shown(forecast.life_to_s)];
    return from === to ? `Lifespan ${to} s.` : `Lifespan ${from} – ${to} s.`;
  });
  const many = $derived.by(() => {
    if (!forecast) return '';
    const full = forecast.full_from_frame;
    const when =
      full === null
        ? ''
        : full <= desk.shot!.first_frame
          ? ' from the first frame (pre-roll)'
          : ` at frame ${full}`;
    return `Peak: ${number(forecast.alive_at_most)} particles${when}.`;
  });
  const short = $derived(
    forecast && forecast.wanted_at_most > forecast.share ? forecast.wanted_at_most : null,
  );
</script>

<div class="head"><span>End</span><small>read by age</small></div>
{#if emitter && forecast}
  <div class="px-3.5 pb-3">
    <Fields {desk} model="Emitter" owner={emitter} path={desk.emitterPath} panel="end" />
    {#if emitter.trail?.length}
      <Fields
        {desk}
        model="Trail"
        owner={emitter.trail}
        path="{desk.emitterPath}/trail"
        only={['after_death', 'head_waits']}
      />
    {/if}
    <p class="pt-3 text-soft">{life} {many}</p>
    <p class="pt-1.5 text-soft" data-forecast>
      {taken}
      {forecast.memory_bytes < 1048576 ? 'Less than 1' : number(Math.round(forecast.memory_bytes / 1048576))} MB
      per stored moment.{models}
    </p>
    <p class="pt-1.5 text-soft">
      Particles travel up to {number(Math.round(forecast.farthest_px))} px.
    </p>
    {#if short !== null}
      <p class="mt-2 rounded-md border border-amber px-2 py-1.5 text-amber">
        ⚠ {number(short)} would be alive, but the limit is {number(forecast.share)}. Raise “Particle limit”,
        or lower the rate.
      </p>
    {/if}
  </div>
{:else}
  <p class="px-3.5 text-soft">Settings for the end of a particle’s life appear here.</p>
{/if}
