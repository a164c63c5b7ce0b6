<script lang="ts">
  import type { NumberValue } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { newGesture } from '../state/edits.svelte';
  import { follow } from '../ui/drag';

  interface Props {
    desk: Desk;
    /** Where a frame is on the strip, and which frame a second of shot time is. */
    at: (frame: number) => number;
    first_s: (at_s: number) => number;
    rate: number;
  }
  /** From the first piece that leaves or arrives to the last, as ranges on the strip: moved as a whole, or by their ends. */
  let { desk, at, first_s, rate }: Props = $props();
  const emitter = $derived(desk.emitter);
  const fronts = $derived(desk.guides?.pieces ?? []);
  const words = { release: 'Release', assemble: 'Arrival' } as const;

  interface Front {
    at_s: number;
    duration: NumberValue;
  }

  function press(event: PointerEvent, of: 'release' | 'assemble', part: 'all' | 'begin' | 'end'): void {
    event.stopPropagation();
    const front = emitter?.pieces?.[of] as Front | null | undefined;
    if (!front) return;
    const path = `${desk.emitterPath}/pieces/${of}`;
    const perSecond = at(first_s(1)) - at(first_s(0)) || 1;
    const from = {
      x: event.clientX,
      at_s: front.at_s,
      lasts: desk.valueNow(`${path}/duration`, front.duration),
    };
    const gesture = newGesture();
    const toFrame = (s: number): number => Math.round(s * rate) / rate;
    follow(event, {
      move: (e) => {
        const by = toFrame((e.clientX - from.x) / perSecond);
        if (part !== 'end')
          desk.set(`${path}/at_s`, Number((from.at_s + by).toFixed(4)), `${words[of]} begins`, gesture);
        const lasts = part === 'end' ? from.lasts + by : part === 'begin' ? from.lasts - by : null;
        if (lasts !== null)
          desk.setNumbers(
            [[`${path}/duration`, Number(Math.max(0, lasts).toFixed(4))]],
            `${words[of]} duration`,
            gesture,
          );
      },
    });
  }
</script>

{#each fronts as front, n (front.of)}
  {@const left = at(first_s(front.first_s))}
  {@const wide = Math.max(6, at(first_s(front.last_s)) - left)}
  <div
    class="absolute h-[13px] cursor-grab rounded-[3px] border border-dawn {n === 0 && front.of === 'release'
      ? 'bg-dawn/25'
      : 'bg-dawn/10'}"
    style="left:{left}px;width:{wide}px;top:41px"
    role="slider"
    tabindex="-1"
    aria-label="{words[front.of]} of the pieces"
    aria-valuenow={front.first_s}
    title="{words[front.of]}: from {front.first_s.toFixed(2)} s to {front.last_s.toFixed(
      2,
    )} s. Drag to move it; drag an end to change its duration."
    onpointerdown={(e) => press(e, front.of, 'all')}
  >
    <span
      class="pointer-events-none absolute inset-0 truncate px-1.5 text-center text-[9.5px] leading-[11px] text-dawn"
    >
      {wide > 44 ? words[front.of] : ''}
    </span>
    {#each ['begin', 'end'] as const as part (part)}
      <span
        role="presentation"
        class="absolute inset-y-0 w-[7px] cursor-ew-resize {part === 'begin'
          ? '-left-[3px]'
          : '-right-[3px]'}"
        onpointerdown={(e) => press(e, front.of, part)}
      ></span>
    {/each}
  </div>
{/each}
