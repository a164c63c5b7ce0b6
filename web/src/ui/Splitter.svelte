<script lang="ts">
  import { room, type Side } from '../state/room.svelte';
  import { follow } from './drag';

  let { side, label }: { side: Side; label: string } = $props();
  const level = $derived(side === 'low');

  function begin(event: PointerEvent): void {
    if (event.button !== 0) return;
    event.preventDefault();
    const before = room.sides[side];
    const from = level ? event.clientY : event.clientX;
    const sign = side === 'left' ? 1 : -1;
    follow(event, { move: (e) => room.set(side, before + sign * ((level ? e.clientY : e.clientX) - from)) });
  }

  function key(event: KeyboardEvent): void {
    const [back, on] = level ? ['ArrowDown', 'ArrowUp'] : ['ArrowLeft', 'ArrowRight'];
    const more = side === 'right' ? back : on;
    const less = side === 'right' ? on : back;
    if (event.key === more || event.key === less) {
      room.set(side, room.sides[side] + (event.key === more ? 1 : -1) * (event.shiftKey ? 40 : 8));
    } else if (event.key === 'Enter') room.reset(side);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
</script>

<!-- A separator that can be moved takes the focus: the pattern of the ARIA guide for window splitters. -->
<!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
<div
  class="splitter {side}"
  role="separator"
  tabindex="0"
  aria-label={label}
  aria-orientation={level ? 'horizontal' : 'vertical'}
  aria-valuemin={room.ends(side)[0]}
  aria-valuemax={room.ends(side)[1]}
  aria-valuenow={room.sides[side]}
  title="{label}. Double-click for the usual measure."
  onpointerdown={begin}
  ondblclick={() => room.reset(side)}
  onkeydown={key}
></div>

<style>
  .splitter {
    position: absolute;
    z-index: 20;
    touch-action: none;
  }
  .left,
  .right {
    top: 40px;
    bottom: 0;
    width: 9px;
    cursor: ew-resize;
  }
  .left {
    left: calc(var(--left) - 5px);
  }
  .right {
    right: calc(var(--right) - 5px);
  }
  .low {
    right: 0;
    bottom: calc(var(--low) - 4px);
    left: 0;
    height: 7px;
    cursor: ns-resize;
  }
  .splitter::after {
    position: absolute;
    content: '';
    background: var(--aurora);
    opacity: 0;
    transition: opacity 120ms;
  }
  .left::after,
  .right::after {
    inset: 0 4px;
  }
  .low::after {
    inset: 3px 0;
  }
  .splitter:hover::after,
  .splitter:focus-visible::after {
    opacity: 1;
  }
</style>
