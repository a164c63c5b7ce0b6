<script lang="ts">
  import { Dialog } from 'bits-ui';
  import { onMount, type Snippet } from 'svelte';
  import type { SheetCell } from '../api/client';
  import { drawn, type Picture } from '../api/picture';
  import Icon from '../ui/Icon.svelte';
  import type { Sheet } from './sheet.svelte';

  interface Props {
    sheet: Sheet;
    title: string;
    about: string;
    /** What was done last, in words. */
    said: string;
    /** Width of the shot's picture by its height. */
    ratio: number;
    /** The cell under the pointer, or with the focus, in the order of drawing. */
    seen: number;
    /** What is written beside rows and under columns; without them, under each cell. */
    rows?: string[];
    columns?: string[];
    under?: (cell: SheetCell) => string;
    /** Whether a cell cannot be pressed. */
    dull?: (cell: SheetCell) => boolean;
    /** Cells that are marked. */
    marked?: number[];
    onpress: (cell: SheetCell) => void;
    onkeep: (cell: SheetCell) => void;
    /** What a letter does with the cell that has the focus. */
    letters: Record<string, (cell: SheetCell, n: number) => void>;
    onclose: () => void;
    aside: Snippet;
  }
  /** Many states of the shot side by side, and beside them what is set of them. */
  let {
    sheet,
    title,
    about,
    said,
    ratio,
    seen = $bindable(),
    rows = [],
    columns = [],
    under,
    dull = () => false,
    marked = [],
    onpress,
    onkeep,
    letters,
    onclose,
    aside,
  }: Props = $props();
  const canvases: (HTMLCanvasElement | null)[] = [];
  /** The picture that each canvas shows: it is drawn again only when it changes. */
  const onIt = new WeakMap<HTMLCanvasElement, Picture>();
  const drawing = $derived(sheet.state);

  onMount(() => {
    const begun = performance.now();
    let timer = requestAnimationFrame(function show(now: number) {
      const many = sheet.state?.frames.length ?? 1;
      const place = Math.floor((now - begun) / 1000 / (sheet.state?.interval_s ?? 1)) % many;
      for (const [n, canvas] of canvases.entries()) {
        const picture = sheet.at(n, place);
        if (!canvas || !picture || onIt.get(canvas) === picture) continue;
        drawn(canvas, picture);
        onIt.set(canvas, picture);
      }
      timer = requestAnimationFrame(show);
    });
    return () => cancelAnimationFrame(timer);
  });

  /** The cell at a row and a column, in the order of drawing. */
  function at(row: number, column: number): number {
    return drawing!.cells.findIndex((one) => one.row === row && one.column === column);
  }

  function keys(event: KeyboardEvent, n: number): void {
    const one = drawing!.cells[n]!;
    const step = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] }[event.key];
    const letter = event.ctrlKey || event.metaKey ? undefined : letters[event.key];
    if (step) {
      const to = at(one.row + step[0]!, one.column + step[1]!);
      if (to >= 0) document.getElementById(`cell-${to}`)?.focus();
    } else if (event.key === 'Enter' && event.shiftKey) onkeep(one);
    else if (letter) letter(one, n);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
</script>

<Dialog.Root bind:open={() => true, (yes) => yes || onclose()}>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/55" />
    <Dialog.Content
      class="fixed top-1/2 left-1/2 z-50 flex h-[94vh] w-[97vw] -translate-x-1/2 -translate-y-1/2 flex-col rounded-xl border border-line-strong bg-ground shadow-2xl"
    >
      <div class="flex h-11 flex-none items-center gap-3 border-b border-line px-4">
        <Dialog.Title class="text-[15px] font-semibold">{title}</Dialog.Title>
        <Dialog.Description class="text-soft">{about}</Dialog.Description>
        <span class="ml-auto text-[11.5px] text-soft" aria-live="polite">
          {#if sheet.waiting}
            {drawing && sheet.begun
              ? `Drawing ${sheet.begun} of ${drawing.cells.length} …`
              : 'Preparing the sheet …'}
          {:else}
            {said}
          {/if}
        </span>
        <Dialog.Close class="quiet" aria-label="Close"><Icon name="close" /></Dialog.Close>
      </div>
      <div class="flex min-h-0 flex-1">
        <div class="grid min-h-0 min-w-0 flex-1 place-items-center overflow-auto bg-surround p-3">
          {#if sheet.problem}
            <p role="alert" class="max-w-[420px] text-center text-[#f2d49a]">
              ⚠ {sheet.problem.what}
              {sheet.problem.remedy}
            </p>
          {:else if drawing}
            {@const [down, across] = drawing.size}
            <div
              class="sheet"
              class:headed={rows.length}
              role="grid"
              aria-label="States of the shot"
              style="--rows:{down};--columns:{across};--ratio:{ratio};--left:{rows.length
                ? 66
                : 0}px;--below:{under ? 20 : 0}px"
            >
              {#each Array.from({ length: down }, (_, r) => r) as r (r)}
                <div role="row" class="contents">
                  {#if rows.length}
                    <span role="rowheader" class="self-center pr-2 text-right text-[12px] text-[#c9cccc]"
                      >{rows[r]}</span
                    >
                  {/if}
                  {#each Array.from({ length: across }, (_, c) => c) as c (c)}
                    {@const n = at(r, c)}
                    {#if n >= 0}
                      {@const one = drawing.cells[n]!}
                      <div role="gridcell" class="min-w-0">
                        <button
                          id="cell-{n}"
                          class="cell"
                          class:current={one.current}
                          class:marked={marked.includes(n)}
                          tabindex={seen === n ? 0 : -1}
                          aria-label="{one.label}{one.current ? ', as the shot is' : ''}{marked.includes(n)
                            ? ', marked'
                            : ''}"
                          aria-disabled={dull(one) || undefined}
                          onpointerenter={() => (seen = n)}
                          onfocus={() => (seen = n)}
                          onclick={(e) => {
                            if (e.shiftKey) onkeep(one);
                            else if (!dull(one)) onpress(one);
                          }}
                          onkeydown={(e) => keys(e, n)}
                        >
                          <canvas bind:this={canvases[n]}></canvas>
                          {#if sheet.refused[n]}
                            <span
                              class="absolute inset-2 grid place-items-center text-[11.5px] text-[#f2d49a]"
                              >⚠ {sheet.refused[n]}</span
                            >
                          {/if}
                        </button>
                        {#if under}
                          <p
                            class="h-5 truncate text-center text-[12px] {one.current
                              ? 'text-aurora'
                              : 'text-[#c9cccc]'}"
                          >
                            {under(one)}
                          </p>
                        {/if}
                      </div>
                    {:else}
                      <span role="gridcell"></span>
                    {/if}
                  {/each}
                </div>
              {/each}
              {#if columns.length}
                <div role="row" class="contents">
                  <span role="presentation"></span>
                  {#each columns as word, n (n)}
                    <span role="columnheader" class="text-center text-[12px] text-[#c9cccc]">{word}</span>
                  {/each}
                </div>
              {/if}
            </div>
          {/if}
        </div>
        <aside
          class="w-[232px] flex-none overflow-y-auto border-l border-line px-3"
          aria-label="{title} settings"
        >
          {#if drawing}{@render aside()}{/if}
        </aside>
      </div>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>

<style>
  /* As large as the place allows, both ways. */
  .sheet {
    --cell: min(
      (97vw - 232px - 40px - var(--left)) / var(--columns) - 6px,
      ((94vh - 44px - 64px) / var(--rows) - 6px - var(--below)) * var(--ratio)
    );
    display: grid;
    grid-template-columns: repeat(var(--columns), var(--cell));
    gap: 6px;
  }
  .sheet.headed {
    grid-template-columns: var(--left) repeat(var(--columns), var(--cell));
  }
  .cell {
    position: relative;
    display: block;
    width: 100%;
    aspect-ratio: var(--ratio);
    background: #101214;
    border-radius: 3px;
    overflow: hidden;
    outline: 2px solid transparent;
    outline-offset: -2px;
  }
  .cell canvas {
    width: 100%;
    height: 100%;
    object-fit: contain;
  }
  .cell:hover,
  .cell:focus-visible {
    outline-color: #dfe8e8;
  }
  .cell.current,
  .cell.marked {
    outline-color: var(--aurora);
  }
  .cell.marked {
    outline-style: dashed;
  }
</style>
