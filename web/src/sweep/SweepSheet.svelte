<script lang="ts">
  import { onDestroy } from 'svelte';
  import { api, got, type AxisState, type Change, type SheetAsk, type SheetCell } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import { shown } from '../ui/arithmetic';
  import AxisRow from './AxisRow.svelte';
  import { asked, keepVersion, LOOP, Sheet } from './sheet.svelte';
  import SheetDialog from './SheetDialog.svelte';

  /** Many values of one or two numbers, side by side. */
  let { desk, path, onclose }: { desk: Desk; path: string; onclose: () => void } = $props();

  // The sheet is created for each sweep, so it keeps its number.
  // svelte-ignore state_referenced_locally
  const sheet = new Sheet(
    desk.id,
    asked({ columns: { path, start: null, end: null, spacing: null }, frame: desk.player.frame }),
  );
  onDestroy(() => sheet.close());
  let count = $state(3);
  let moving = $state(true);
  let seen = $state(0);
  let busy = $state(false);
  let said = $state('');

  const drawing = $derived(sheet.state);
  const cell = $derived(drawing?.cells[seen] ?? drawing?.cells[0] ?? null);
  const withUnit = (axis: AxisState, value: number): string =>
    `${shown(value)}${axis.unit === '°' ? '' : ' '}${axis.unit}`;
  /** What stands beside the rows, the upper one first, and under the columns. */
  const headings = $derived(
    drawing?.columns && drawing.rows
      ? {
          rows: [...drawing.rows.values].reverse().map((value) => withUnit(drawing.rows!, value)),
          columns: drawing.columns.values.map((value) => withUnit(drawing.columns!, value)),
        }
      : { under: (one: SheetCell): string => withUnit(drawing!.columns!, one.values[0]!) },
  );

  function take(one: SheetCell): void {
    desk.change(one.changes as unknown as Change[], one.label);
    said = `${one.label} is now in the shot.`;
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
</script>

<SheetDialog
  {sheet}
  title="Sweep"
  about="Click a picture to take its values. Shift-click keeps it as a version."
  {said}
  ratio={desk.shot!.width / desk.shot!.height}
  bind:seen
  {...headings}
  dull={(one) => one.current}
  onpress={take}
  onkeep={async (one) => (said = await keepVersion(desk.id, one))}
  letters={{ n: (one) => sheet.around(one, 0.5), m: (one) => sheet.around(one, 2) }}
  {onclose}
>
  {#snippet aside()}
    {#if cell && drawing?.columns}
      <div class="border-b border-line py-2" data-values>
        {#each [drawing.columns, drawing.rows] as axis, n (n)}
          {#if axis}
            <p class="text-[11.5px] text-soft">{axis.owner} – {axis.label}</p>
            <p class="pb-1 text-[26px] leading-[30px] font-semibold">
              {withUnit(axis, cell.values[n] ?? axis.now)}
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
    {/if}
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
        <button class="button h-7! flex-1 justify-center px-0!" disabled={busy} onclick={() => deliver(0)}
          >PNG</button
        >
        <button class="button h-7! flex-1 justify-center px-0!" disabled={busy} onclick={() => deliver(LOOP)}
          >Movie</button
        >
      </div>
    </div>
  {/snippet}
</SheetDialog>
