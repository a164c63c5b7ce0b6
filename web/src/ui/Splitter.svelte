<script lang="ts">
  import { panelLayout, type Side } from '../state/panel_layout.svelte';
  import { follow } from './drag';
  import Icon from './Icon.svelte';

  /** what: the part of the screen whose measure it is. */
  let { side, label, what }: { side: Side; label: string; what: string } = $props();
  const folded = $derived(panelLayout.folded[side]);
  const level = $derived(side === 'low');

  function begin(event: PointerEvent): void {
    if (event.button !== 0) return;
    event.preventDefault();
    const before = panelLayout.px(side);
    const from = level ? event.clientY : event.clientX;
    const sign = side === 'left' ? 1 : -1;
    const move = (e: PointerEvent): void => {
      const px = before + sign * ((level ? e.clientY : e.clientX) - from);
      // Pushed far beyond its least measure, it folds away.
      if (px < panelLayout.ends(side)[0] / 2) panelLayout.fold(side, true);
      else if (px !== before) panelLayout.set(side, px);
    };
    follow(event, { move });
  }

  function key(event: KeyboardEvent): void {
    const [back, on] = level ? ['ArrowDown', 'ArrowUp'] : ['ArrowLeft', 'ArrowRight'];
    const more = side === 'right' ? back : on;
    const less = side === 'right' ? on : back;
    if (event.key === more || event.key === less) {
      panelLayout.set(
        side,
        panelLayout.sides[side] + (event.key === more ? 1 : -1) * (event.shiftKey ? 40 : 8),
      );
    } else if (event.key === 'Enter') panelLayout.reset(side);
    else if (event.key === ' ') panelLayout.fold(side);
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
  aria-valuemin={panelLayout.ends(side)[0]}
  aria-valuemax={panelLayout.ends(side)[1]}
  aria-valuenow={panelLayout.sides[side]}
  title="{label}. Double-click to reset, Space to fold."
  onpointerdown={begin}
  ondblclick={() => panelLayout.reset(side)}
  onkeydown={key}
></div>
<button
  class="fold {side}"
  class:folded
  aria-label={folded ? `Unfold ${what}` : `Fold ${what}`}
  aria-expanded={!folded}
  title={folded ? `Unfold ${what}` : `Fold ${what}`}
  onclick={() => panelLayout.fold(side)}
  ><span class="grid" class:turned={(side === 'left') !== folded}><Icon name="chevron" size={11} /></span
  ></button
>

<style>
  .splitter {
    position: absolute;
    z-index: 20;
    touch-action: none;
  }
  .splitter.left,
  .splitter.right {
    top: 40px;
    bottom: 0;
    width: 9px;
    cursor: ew-resize;
  }
  .splitter.left {
    left: calc(var(--left) - 5px);
  }
  .splitter.right {
    right: calc(var(--right) - 5px);
  }
  .splitter.low {
    right: 0;
    bottom: calc(var(--low) - 4px);
    left: 0;
    height: 7px;
    cursor: ns-resize;
  }
  .fold {
    position: absolute;
    z-index: 21;
    display: grid;
    place-items: center;
    width: 24px;
    height: 24px;
    border: 1px solid var(--line-strong);
    border-radius: 7px;
    background: var(--raised);
    color: var(--soft);
    opacity: 0;
    transition: opacity 120ms;
  }
  .fold.left,
  .fold.right {
    top: calc(50% - 100px);
  }
  .fold.left {
    left: calc(max(var(--left), 12px) - 12px);
  }
  .fold.right {
    right: calc(max(var(--right), 12px) - 12px);
  }
  .fold.low {
    right: calc(var(--right) + 12px);
    bottom: calc(var(--low) + var(--strip) - 12px);
  }
  .fold.low span {
    transform: rotate(90deg);
  }
  .fold.low.folded span {
    transform: rotate(-90deg);
  }
  .turned {
    transform: rotate(180deg);
  }
  .splitter:hover + .fold,
  .fold:hover,
  .fold:focus-visible,
  .fold.folded {
    opacity: 1;
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
