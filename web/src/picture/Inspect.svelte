<script lang="ts">
  import { got, api, type FollowedParticle, type SeenParticle } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import { shown } from '../ui/arithmetic';
  import Icon from '../ui/Icon.svelte';
  import { polyline, type Frame } from './geometry';

  let {
    desk,
    frame,
    at,
    onclose,
  }: {
    desk: Desk;
    frame: Frame;
    /** Where on the shot was pressed, px from its top left corner. */
    at: { x: number; y: number } | null;
    onclose: () => void;
  } = $props();
  const shot = $derived(desk.shot!);
  const pixel = $derived(shot.width / frame.width);
  let many = $state.raw<SeenParticle[]>([]);
  let one = $state.raw<FollowedParticle | null>(null);
  const measures = ['id', 'age', 'size', 'speed'] as const;
  let measure = $state<(typeof measures)[number]>('id');

  $effect(() => {
    void desk.player.header?.revision;
    if (desk.player.playing) return;
    const params = { path: { shot_id: desk.id }, query: { frame: desk.player.frame } };
    got(api.GET('/api/shots/{shot_id}/particles', { params })).then(
      (found) => (many = found),
      (error) => notices.trouble(error),
    );
  });
  $effect(() => {
    void desk.player.header?.revision;
    if (!at || desk.player.playing) return;
    const params = { path: { shot_id: desk.id }, query: { frame: desk.player.frame, x: at.x, y: at.y } };
    got(api.GET('/api/shots/{shot_id}/particle', { params })).then(
      (found) => (one = found),
      (error) => notices.trouble(error),
    );
  });
  /** So many can be read at once; of more, every nth. */
  const read = $derived(many.filter((_, i) => i % Math.max(1, Math.ceil(many.length / 90)) === 0));
  const text = $derived((p: SeenParticle): string =>
    measure === 'id'
      ? String(p.birth)
      : measure === 'age'
        ? `${p.age.toFixed(2)} s`
        : measure === 'size'
          ? `${shown(p.size)} px`
          : `${Math.round(p.speed)} px/s`,
  );
  const facts = $derived.by((): [string, string][] => {
    const p = one?.seen;
    if (!p) return [];
    return [
      ['Birth', String(p.birth)],
      ['Age', `${p.age.toFixed(2)} s${p.life === null ? '' : ` of ${p.life.toFixed(2)}`}`],
      ['Position', p.position.map((v) => Math.round(v)).join(', ')],
      ['Velocity', p.velocity.map((v) => Math.round(v)).join(', ')],
      ['Speed', `${Math.round(p.speed)} px/s`],
      ['Size', `${shown(p.size)} px`],
      ['Opacity', `${Math.round(p.opacity * 100)} %`],
      ['Angle', `${Math.round(p.angle)}°`],
    ];
  });
</script>

<svg
  class="pointer-events-none absolute overflow-visible"
  style="left:{frame.left}px;top:{frame.top}px"
  width={frame.width}
  height={frame.height}
  viewBox="0 0 {shot.width} {shot.height}"
  aria-label="Particle values"
>
  {#each read as p, place (place)}
    <text
      x={p.at[0] + (p.radius + 3 * pixel)}
      y={p.at[1] + 3.5 * pixel}
      font-size={10.5 * pixel}
      fill="#fff"
      stroke="#000"
      stroke-width={2.4 * pixel}
      paint-order="stroke">{text(p)}</text
    >
  {/each}
  {#if one}
    <polyline points={polyline(one.past)} fill="none" stroke="#7cc7f2" stroke-width={2 * pixel} />
    <polyline
      points={polyline(one.future)}
      fill="none"
      stroke="#7cc7f2"
      stroke-width={1.6 * pixel}
      stroke-dasharray="{4 * pixel} {4 * pixel}"
    />
    <circle
      cx={one.seen.at[0]}
      cy={one.seen.at[1]}
      r={one.seen.radius + 4 * pixel}
      fill="none"
      stroke="#5fe0b0"
      stroke-width={2 * pixel}
    />
  {/if}
</svg>
<div
  class="absolute right-2.5 top-12 w-[188px] rounded-lg bg-[#101214e6] px-3 py-2 text-[11.5px] text-[#e4e6e6]"
  data-inspect
>
  <div class="flex items-center justify-between">
    <strong>Particles</strong>
    <button
      class="grid size-6 place-items-center rounded hover:bg-[#3a3d3f]"
      aria-label="Close the particle values"
      onclick={onclose}><Icon name="close" size={11} /></button
    >
  </div>
  <div class="flex py-1" role="group" aria-label="Value shown at each particle">
    {#each measures as kind (kind)}
      <button
        class="min-h-6 flex-1 rounded px-1 {measure === kind ? 'bg-[#3a3d3f] text-white' : 'text-[#c9cccc]'}"
        aria-pressed={measure === kind}
        onclick={() => (measure = kind)}>{kind}</button
      >
    {/each}
  </div>
  {#if one}
    <dl class="grid grid-cols-[62px_1fr] gap-y-0.5">
      {#each facts as [name, value] (name)}<dt class="text-[#a9adad]">{name}</dt>
        <dd class="text-right">{value}</dd>{/each}
    </dl>
    <p class="pt-1 text-[#a9adad]">Solid line: past path. Dashed line: future path.</p>
  {:else}
    <p class="text-[#c9cccc]">Click a particle to see its values, its past and its future path.</p>
  {/if}
</div>
