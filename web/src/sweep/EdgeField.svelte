<script lang="ts">
  import { tick } from 'svelte';
  import { arithmetic, shown } from '../ui/arithmetic';
  import { follow } from '../ui/drag';

  interface Props {
    label: string;
    value: number;
    unit: string;
    /** The width of the range, which a drag over 240 px changes the edge by. */
    span: number;
    /** It changes by factors. */
    ratio: boolean;
    onset: (value: number) => void;
  }
  /** One end of a range: dragged or typed. */
  let { label, value, unit, span, ratio, onset }: Props = $props();
  let field = $state<HTMLElement>();
  let draft = $state<string | null>(null);
  let dragged = $state<number | null>(null);
  const now = $derived(dragged ?? value);

  const moved = (from: number, by: number): number => {
    const to = ratio && from > 0 ? from * 2 ** (by / 80) : from + (by * Math.max(span, 1e-6)) / 240;
    return Number(to.toPrecision(4));
  };

  function press(event: PointerEvent): void {
    if (event.button !== 0) return;
    const start = event.clientX;
    follow(event, {
      move: (e) => {
        if (dragged !== null || Math.abs(e.clientX - start) > 3) dragged = moved(value, e.clientX - start);
      },
      up: () => {
        if (dragged === null) draft = String(value);
        else onset(dragged);
        dragged = null;
      },
    });
  }

  function finish(keep: boolean): void {
    const typed = draft === null ? null : arithmetic(draft);
    draft = null;
    if (keep && typed !== null && typed !== value) onset(typed);
  }

  function keys(event: KeyboardEvent): void {
    const sign = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1 }[event.key];
    if (sign) onset(moved(value, sign * (event.shiftKey ? 40 : 8)));
    else if (event.key === 'Enter') draft = String(value);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function enter(node: HTMLInputElement): void {
    node.focus();
    node.select();
  }
</script>

{#if draft !== null}
  <input
    class="w-[74px] rounded bg-well px-1.5 text-right"
    aria-label={label}
    bind:value={draft}
    use:enter
    onblur={() => finish(true)}
    onkeydown={(e) => {
      e.stopPropagation();
      if (e.key !== 'Enter' && e.key !== 'Escape') return;
      // The key must not press what gets the focus now.
      e.preventDefault();
      finish(e.key === 'Enter');
      void tick().then(() => field?.focus());
    }}
  />
{:else}
  <div
    bind:this={field}
    role="spinbutton"
    tabindex="0"
    aria-label={label}
    aria-valuenow={now}
    aria-valuetext="{shown(now)} {unit}"
    title="Drag to change, press to type"
    class="min-w-[56px] cursor-ew-resize touch-none rounded bg-well px-1.5 text-right font-semibold whitespace-nowrap select-none hover:bg-raised"
    onpointerdown={press}
    onkeydown={keys}
  >
    {shown(now)}<span class="pl-0.5 text-[11px] font-normal text-soft">{unit}</span>
  </div>
{/if}
