<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import type { View } from '../state/scene_items';
  import Icon from '../ui/Icon.svelte';

  /** Line on the picture's upper edge: the view, and its figures. enlarged: screen px per px of the shot, if not fitted. */
  let { desk, enlarged, onfit }: { desk: Desk; enlarged: number | null; onfit: () => void } = $props();
  const shot = $derived(desk.shot!);
  const views: [View, string][] = [
    ['plate', 'Over plate'],
    ['particles', 'Particles'],
    ['alpha', 'Alpha'],
    ['layers', 'Overdraw'],
    ['under', 'Plate'],
  ];
  const figures = $derived(desk.player.figures);
  /** The share of the width at which it plays, where it takes too long in full. */
  const reduced = $derived(desk.player.playing ? (desk.player.header?.reduced ?? 1) : 1);
  /** The details left out at this level. */
  const less = $derived(
    ['', ', without motion blur', ', without motion blur, with fewer particles'][
      desk.player.header?.rough ?? 0
    ],
  );
  const number = new Intl.NumberFormat('en').format;
  const born = $derived(
    desk.scene?.emitters.reduce((sum, g, i) => sum + (shot.emitters[i]?.on ? g.forecast.born_per_s : 0), 0) ??
      0,
  );
  const facts = $derived(
    figures
      ? [
          `${number(figures.alive)} alive`,
          `${number(Math.round(born))} born/s`,
          ...(figures.outside ? [`${number(figures.outside)} outside`] : []),
          ...(figures.specks ? [`${number(figures.specks)} too small`] : []),
          ...(figures.left_out ? [`⚠ ${number(figures.left_out)} left out`] : []),
          `${figures.ms < 10 ? figures.ms.toFixed(1) : Math.round(figures.ms)} ms`,
        ].join(' · ')
      : '',
  );
  /** What is read of them: while it plays, four times a second. */
  let read = $state('');
  let since = 0;
  $effect(() => {
    // Read in any case: what an effect did not read does not call it again.
    const [latest, now] = [facts, performance.now()];
    if (desk.player.playing && now - since < 250) return;
    since = now;
    read = latest;
  });
</script>

<!-- Without room for both side by side, the figures move below. -->
<div class="pointer-events-none absolute inset-x-2.5 top-2.5 flex flex-wrap items-start gap-1.5">
  <div class="pointer-events-auto flex rounded-lg bg-[#101214d9] p-0.5 text-[#c9cccc]" data-over>
    <div class="flex" role="radiogroup" aria-label="View">
      {#each views as [name, label], i (name)}
        <button
          role="radio"
          aria-checked={desk.player.view === name}
          tabindex={desk.player.view === name ? 0 : -1}
          onkeydown={(e) => {
            const by = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[e.key];
            if (!by) return;
            e.preventDefault();
            e.stopPropagation();
            const next = (i + by + views.length) % views.length;
            desk.player.show(views[next]![0]);
            (e.currentTarget.parentElement!.children[next] as HTMLElement).focus();
          }}
          class="rounded-md px-2.5 py-1 text-[11.5px] {desk.player.view === name
            ? 'bg-[#3a3d3f] text-white'
            : 'hover:text-white'}"
          onclick={() => desk.player.show(name)}>{label}</button
        >
      {/each}
    </div>
    <button
      class="flex items-center gap-1.5 rounded-md border-l border-[#3a3d3f] px-2.5 py-1 text-[11.5px] {desk
        .player.orbit
        ? 'bg-[#3a3d3f] text-white'
        : 'hover:text-white'}"
      aria-pressed={desk.player.orbit !== null}
      title="Orbit view. The shot's camera does not change."
      onclick={() => desk.player.lookFrom(desk.player.orbit ? null : { side: 32, above: 18, far: 1.5 })}
      ><Icon name="orbit" size={13} /> Orbit</button
    >
  </div>
  <div
    class="pointer-events-auto ml-auto flex flex-col items-end gap-1 text-[11.5px] text-[#e4e6e6]"
    data-over
  >
    <span
      class="rounded-lg bg-[#101214d9] px-2.5 py-1"
      title={figures ? `${Math.round(figures.memory_bytes / 1048576)} MB used by the studio` : ''}
      data-facts>{read}</span
    >
    {#if desk.player.run}
      <span
        class="rounded-lg bg-[#101214d9] px-2.5 py-1"
        role="status"
        title="Interacting particles are simulated from their first birth; frames that are reached are cached."
        data-run
        >running up to frame {desk.player.frame}: at {desk.player.run.frame}, {Math.max(
          1,
          Math.round(desk.player.run.left_s),
        )} s</span
      >
    {/if}
    {#if desk.player.header?.held && !desk.player.run}
      <span
        class="rounded-lg bg-[#101214d9] px-2.5 py-1"
        title="Interacting particles are simulated from their first birth when you stop editing."
        data-held>previous motion until you release</span
      >
    {/if}
    {#if reduced < 1}
      <span
        class="rounded-lg bg-[#101214d9] px-2.5 py-1"
        title="Full quality takes too long for real time; frames that have been seen once are then shown in full quality."
        data-reduced>played at {Math.round(reduced * 100)} % of its size{less}</span
      >
    {/if}
    {#if enlarged !== null}
      <button class="rounded-lg bg-[#101214d9] px-2.5 py-1 hover:text-white" onclick={onfit}
        >{Math.round(enlarged * 100)} % · fit</button
      >
    {/if}
  </div>
</div>
