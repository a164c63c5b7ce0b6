<script lang="ts">
  import { onDestroy, untrack } from 'svelte';
  import type { Desk } from '../state/desk.svelte';
  import { listening } from '../state/listening.svelte';
  import { follow } from '../ui/drag';
  import Icon from '../ui/Icon.svelte';
  import { drivenLines } from './driven_lines';

  interface Props {
    desk: Desk;
    width: number;
    /** Position of a frame across the strip. */
    at: (frame: number) => number;
  }
  let { desk, width, at }: Props = $props();
  const height = 40;
  const shot = $derived(desk.shot!);
  /** The selected sound; otherwise the one that drives the selected thing; otherwise the first. */
  const sound = $derived(
    shot.sounds.find((s) => s.id === desk.thing?.id) ??
      shot.sounds.find((s) =>
        drivenLines(shot, s.id).some((one) => desk.path && one.path.startsWith(`${desk.path}/`)),
      ) ??
      shot.sounds[0]!,
  );
  const wave = $derived(listening.waves[sound.id]);
  const [from, to] = $derived([at(shot.first_frame), at(shot.last_frame)]);
  const xOf = $derived((t: number) => at(shot.first_frame + t * desk.player.fps));
  const line = $derived.by(() => {
    if (!wave) return '';
    const n = wave.loudest.length;
    const span =
      ((to - from) * (shot.last_frame - shot.first_frame + 1)) /
      Math.max(1, shot.last_frame - shot.first_frame);
    const x = (i: number): string => (from + (span * (i + 0.5)) / n).toFixed(1);
    const y = (v: number, side: number): string =>
      (height / 2 + side * Math.max(0.5, v * (height / 2 - 4))).toFixed(1);
    const up = wave.loudest.map((v, i) => `${x(i)},${y(v, -1)}`);
    const down = wave.loudest.map((v, i) => `${x(i)},${y(v, 1)}`).reverse();
    return [...up, ...down].join(' ');
  });
  const frameAt = (event: PointerEvent, box: DOMRect): number =>
    shot.first_frame +
    ((event.clientX - box.left - from) / Math.max(1, to - from)) * (shot.last_frame - shot.first_frame);
  function press(event: PointerEvent): void {
    const box = (event.currentTarget as Element).getBoundingClientRect();
    desk.player.go(frameAt(event, box));
    follow(event, { move: (e) => desk.player.go(frameAt(e, box)) });
  }
  $effect(() => listening.look(desk.id, shot));
  $effect(() => {
    // With each picture, and when it begins or ends to play.
    void [desk.player.header, desk.player.playing, listening.muted];
    untrack(() => listening.picture(desk.id, shot, desk.player));
  });
  onDestroy(() => listening.stop());
</script>

<div class="flex border-t border-line" role="group" aria-label="Sound {sound.name}">
  <div class="flex w-[126px] items-center gap-1 pl-2">
    <button
      class="quiet"
      aria-label={listening.muted ? 'Unmute' : 'Mute'}
      aria-pressed={listening.muted}
      title={listening.muted
        ? 'Play the sound during playback'
        : listening.drift === null
          ? 'Mute'
          : `Mute; sound and picture were ${Math.round(Math.abs(listening.drift) * 1000)} ms apart`}
      data-apart={listening.drift ?? ''}
      onclick={() => {
        listening.muted = !listening.muted;
        if (listening.muted) listening.stop();
      }}><Icon name={listening.muted ? 'muted' : 'loud'} size={15} /></button
    >
    <button
      class="min-w-0 truncate text-left text-[11.5px] {desk.thing?.id === sound.id
        ? 'text-word'
        : 'text-soft hover:text-word'}"
      title={sound.name}
      onclick={() => (desk.selection = { kind: 'sound', id: sound.id })}>{sound.name}</button
    >
  </div>
  <!-- The slider of the strip above does the same by keys. -->
  <svg
    role="presentation"
    class="h-[40px] min-w-0 flex-1 cursor-pointer touch-none"
    {width}
    {height}
    onpointerdown={press}
    data-wave={wave ? wave.onsets.length : ''}
  >
    <polygon points={line} fill="var(--ice)" opacity={sound.on ? 0.55 : 0.2} />
    {#each wave?.beats ?? [] as t (t)}
      <circle cx={xOf(t)} cy={height - 3} r="1.4" fill="var(--soft)" />
    {/each}
    {#each wave?.onsets ?? [] as t (t)}
      <line x1={xOf(t)} x2={xOf(t)} y1="1" y2="7" stroke="var(--aurora)" stroke-width="1.3" />
    {/each}
    <line
      x1={at(desk.player.frame)}
      x2={at(desk.player.frame)}
      y1="0"
      y2={height}
      stroke="var(--dawn)"
      stroke-width="1.5"
    />
  </svg>
</div>
