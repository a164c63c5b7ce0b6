<script lang="ts">
  import { Dialog } from 'bits-ui';
  import { onMount } from 'svelte';
  import { api, got, type AxisState, type Change, type SheetAsk, type SheetCell } from '../api/client';
  import { drawn } from '../api/picture';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import { shown } from '../ui/arithmetic';
  import Icon from '../ui/Icon.svelte';
  import AxisRow from './AxisRow.svelte';
  import { LOOP, Sheet } from './sheet.svelte';

  /** Many values of one or two numbers, side by side. */
  let { desk, path, onclose }: { desk: Desk; path: string; onclose: () => void } = $props();

  // The sheet is created for each sweep, so it keeps its number.
  // svelte-ignore state_referenced_locally
  const sheet = new Sheet(desk.id, {
    kind: 'sweep',
    columns: { path, start: null, end: null, spacing: null },
    rows: null,
    count: 3,
    frame: desk.player.frame,
    width: 300,
    loop: LOOP,
    around: null,
  });
  let count = $state(3);
  let moving = $state(true);
  /** The cell under the pointer, or with the focus. */
  let seen = $state<number | null>(null);
  let busy = $state(false);
  let said = $state('');
  const canvases: HTMLCanvasElement[] = [];

  const drawing = $derived(sheet.state);
  const cell = $derived(drawing ? (drawing.cells[seen ?? 0] ?? null) : null);
  const ratio = $derived(desk.shot!.width / desk.shot!.height);
  const withUnit = (axis: AxisState, value: number): string =>
    `${shown(value)}${axis.unit === '°' ? '' : ' '}${axis.unit}`;
  const named = (one: SheetCell): string =>
    [drawing!.columns, drawing!.rows]
      .flatMap((axis, n) => (axis ? [`${axis.label} ${withUnit(axis, one.values[n]!)}`] : []))
      .join(', ');
  /** The values of rows, from the upper one to the lowest. */
  const down = $derived(drawing?.rows ? [...drawing.rows.values].reverse() : []);

  onMount(() => {
    const begun = performance.now();
    let timer = requestAnimationFrame(function show(now: number) {
      const many = sheet.state?.frames.length ?? 1;
      const place = Math.floor((now - begun) / 1000 / (sheet.state?.interval_s ?? 1)) % many;
      for (const [n, canvas] of canvases.entries()) drawn(canvas, sheet.at(n, place) ?? null);
      timer = requestAnimationFrame(show);
    });
    return () => {
      cancelAnimationFrame(timer);
      sheet.close();
    };
  });

  async function take(one: SheetCell): Promise<void> {
    if (one.current) return;
    desk.change(one.changes as unknown as Change[], named(one));
    said = `${named(one)} is now in the shot.`;
  }

  async function keep(one: SheetCell): Promise<void> {
    try {
      const params = { path: { shot_id: desk.id } };
      const body = { name: named(one).slice(0, 80), changes: one.changes as unknown as Change[] };
      await got(api.POST('/api/shots/{shot_id}/versions', { params, body }));
      said = `${named(one)} is kept as a version.`;
    } catch (error) {
      notices.trouble(error);
    }
  }

  const width = (n: number): number => Math.round(900 / n);

  function want(change: Partial<SheetAsk>): void {
    sheet.want({ ...sheet.axes, ...change });
  }

  async function deliver(loop: number): Promise<void> {
    busy = true;
    try {
      const params = { path: { shot_id: desk.id } };
      const body = { ...sheet.shown, loop, width: 320 };
      const file = await got(
        api.POST('/api/shots/{shot_id}/sheet', { params, body, parseAs: 'blob' }) as unknown as Promise<{
          data?: Blob;
          error?: unknown;
          response: Response;
        }>,
      );
      const link = document.createElement('a');
      link.href = URL.createObjectURL(file);
      link.download = `${desk.shot!.name} sweep${loop > 1 ? '.mp4' : '.png'}`;
      link.click();
      URL.revokeObjectURL(link.href);
    } catch (error) {
      notices.trouble(error);
    } finally {
      busy = false;
    }
  }

  /** The cell at a row and a column, in the order of drawing. */
  function at(row: number, column: number): number {
    return drawing!.cells.findIndex((one) => one.row === row && one.column === column);
  }

  function keys(event: KeyboardEvent, n: number): void {
    const one = drawing!.cells[n]!;
    const step = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] }[event.key];
    if (step) {
      const to = at(one.row + step[0]!, one.column + step[1]!);
      if (to >= 0) document.getElementById(`cell-${to}`)?.focus();
    } else if (event.key === 'Enter' && event.shiftKey) void keep(one);
    else if (event.key === 'n') sheet.around(one, 0.5);
    else if (event.key === 'm') sheet.around(one, 2);
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
        <Dialog.Title class="text-[15px] font-semibold">Sweep</Dialog.Title>
        <Dialog.Description class="text-soft">
          Click a picture to take its values. Shift-click keeps it as a version.
        </Dialog.Description>
        <span class="ml-auto text-[11.5px] text-soft" aria-live="polite">
          {#if drawing && sheet.ms === null}
            Drawing {sheet.begun} of {drawing.cells.length} …
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
            {@const [rows, columns] = drawing.size}
            <div
              class="sheet"
              role="grid"
              aria-label="States of the shot"
              style="--rows:{rows};--columns:{columns};--ratio:{ratio};--left:{drawing.rows
                ? '66px'
                : '0px'};--below:{drawing.rows ? '0px' : '20px'}"
            >
              {#each Array.from({ length: rows }, (_, r) => r) as r (r)}
                <div role="row" class="contents">
                  {#if drawing.rows}
                    <span role="rowheader" class="self-center pr-2 text-right text-[12px] text-[#c9cccc]"
                      >{withUnit(drawing.rows, down[r]!)}</span
                    >
                  {/if}
                  {#each Array.from({ length: columns }, (_, c) => c) as c (c)}
                    {@const n = at(r, c)}
                    {#if n >= 0}
                      {@const one = drawing.cells[n]!}
                      <div role="gridcell" class="min-w-0">
                        <button
                          id="cell-{n}"
                          class="cell"
                          class:current={one.current}
                          tabindex={(seen ?? 0) === n ? 0 : -1}
                          aria-label="{named(one)}{one.current ? ', as the shot is' : ''}"
                          aria-disabled={one.current || undefined}
                          onpointerenter={() => (seen = n)}
                          onfocus={() => (seen = n)}
                          onclick={(e) => void (e.shiftKey ? keep(one) : take(one))}
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
                        {#if !drawing.rows}
                          <p
                            class="h-5 text-center text-[12px] {one.current
                              ? 'text-aurora'
                              : 'text-[#c9cccc]'}"
                          >
                            {withUnit(drawing.columns, one.values[0]!)}
                          </p>
                        {/if}
                      </div>
                    {/if}
                  {/each}
                </div>
              {/each}
              {#if drawing.rows}
                <div role="row" class="contents">
                  <span></span>
                  {#each drawing.columns.values as value, n (n)}
                    <span role="columnheader" class="text-center text-[12px] text-[#c9cccc]"
                      >{withUnit(drawing.columns, value)}</span
                    >
                  {/each}
                </div>
              {/if}
            </div>
          {:else}
            <p class="text-[#c9cccc]">Preparing the sheet …</p>
          {/if}
        </div>
        <aside
          class="w-[232px] flex-none overflow-y-auto border-l border-line px-3"
          aria-label="Sweep settings"
        >
          {#if drawing}
            {#if cell}
              <div class="border-b border-line py-2" data-values>
                {#each [drawing.columns, drawing.rows] as axis, n (n)}
                  {#if axis}
                    <p class="text-[11.5px] text-soft">{axis.owner} – {axis.label}</p>
                    <p class="pb-1 text-[26px] leading-[30px] font-semibold">
                      {withUnit(axis, cell.values[n]!)}
                    </p>
                  {/if}
                {/each}
                <div class="flex gap-1 pt-1">
                  <button
                    class="button h-7! flex-1 justify-center px-2!"
                    title="Halve the ranges about this picture (N)"
                    onclick={() => sheet.around(cell, 0.5)}>Narrow</button
                  >
                  <button
                    class="button h-7! flex-1 justify-center px-2!"
                    title="Double the ranges about this picture (M)"
                    onclick={() => sheet.around(cell, 2)}>Widen</button
                  >
                </div>
              </div>
            {/if}
            <AxisRow
              name={drawing.rows ? 'Columns' : 'Number'}
              axis={drawing.columns}
              numbers={drawing.numbers}
              not={drawing.rows?.path ?? ''}
              onset={(columns) => columns && want({ columns })}
            />
            <AxisRow
              name="Rows"
              axis={drawing.rows}
              numbers={drawing.numbers}
              none="One number only"
              not={drawing.columns.path}
              onset={(rows) => want({ rows })}
            />
            <div class="border-b border-line py-2">
              <p class="pb-1 text-[11.5px] text-soft">Pictures</p>
              <div class="flex gap-1" role="group" aria-label="Rows and columns">
                {#each [3, 5, 7] as n (n)}
                  <button
                    class="button h-7! flex-1 justify-center px-0!"
                    aria-pressed={count === n}
                    class:main={count === n}
                    onclick={() => {
                      count = n;
                      want({ count: n, width: width(n) });
                    }}>{n} × {n}</button
                  >
                {/each}
              </div>
              <div class="flex gap-1 pt-1" role="group" aria-label="Motion">
                {#each [[true, 'Loop'], [false, 'Still']] as [on, word] (word)}
                  <button
                    class="button h-7! flex-1 justify-center px-0!"
                    aria-pressed={moving === on}
                    class:main={moving === on}
                    onclick={() => {
                      moving = on as boolean;
                      want({ loop: moving ? LOOP : 0 });
                    }}>{word}</button
                  >
                {/each}
              </div>
            </div>
            <div class="py-2">
              <p class="pb-1 text-[11.5px] text-soft">Contact sheet with the values</p>
              <div class="flex gap-1">
                <button
                  class="button h-7! flex-1 justify-center px-0!"
                  disabled={busy}
                  onclick={() => deliver(0)}>PNG</button
                >
                <button
                  class="button h-7! flex-1 justify-center px-0!"
                  disabled={busy}
                  onclick={() => deliver(LOOP)}>Movie</button
                >
              </div>
            </div>
          {/if}
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
  .sheet:has([role='rowheader']) {
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
  .cell.current {
    outline-color: var(--aurora);
  }
</style>
