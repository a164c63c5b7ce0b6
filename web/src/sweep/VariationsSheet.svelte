<script lang="ts">
  import { onDestroy } from 'svelte';
  import type { Change, SheetCell } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { asked, keepVersion, Sheet } from './sheet.svelte';
  import SheetDialog from './SheetDialog.svelte';
  import { Variations } from './variations.svelte';

  /** Other looks of an emitter or a group, as different from each other as can be. */
  let { desk, thing, onclose }: { desk: Desk; thing: string; onclose: () => void } = $props();

  const path = new Variations();
  // The sheet is created for each thing.
  // svelte-ignore state_referenced_locally
  const sheet = new Sheet(desk.id, asked({ kind: 'vary', thing, frame: desk.player.frame, ...path.asked }));
  onDestroy(() => sheet.close());
  let seen = $state(0);
  let said = $state('');
  const drawing = $derived(sheet.state);
  const cell = $derived(drawing?.cells[seen] ?? null);
  const marked = $derived(
    drawing?.cells.flatMap((one, n) => (path.isMarked(one.look ?? {}) ? [n] : [])) ?? [],
  );
  const name = $derived(
    [...desk.shot!.emitters, ...desk.shot!.groups].find((one) => one.id === thing)?.name ?? '',
  );

  /** Do something to the path, and show where it leads. */
  function went(how: () => void): void {
    how();
    said = '';
    sheet.want(path.asked);
  }

  function use(one: SheetCell): void {
    desk.change(one.changes as unknown as Change[], `Variation of ${name}`);
    onclose();
  }
</script>

<SheetDialog
  {sheet}
  title="Variations of {name}"
  about="Click a picture for others like it. Shift-click keeps it as a version."
  {said}
  ratio={desk.shot!.width / desk.shot!.height}
  bind:seen
  {marked}
  onpress={(one) => went(() => path.from(one))}
  onkeep={async (one) => (said = await keepVersion(desk.id, one))}
  letters={{ b: (one) => path.mark(one), u: use }}
  {onclose}
>
  {#snippet aside()}
    <div class="border-b border-line py-2" data-values>
      <p class="min-h-[66px] text-[12px] leading-[17px]">{cell?.label ?? ''}</p>
      <div class="flex gap-1 pt-1">
        <button
          class="button main h-7! flex-1 justify-center px-2!"
          disabled={!cell || cell.current}
          title="Give the shot this look (U)"
          onclick={() => cell && use(cell)}>Use</button
        >
        <button
          class="button h-7! flex-1 justify-center px-2!"
          disabled={!cell}
          aria-pressed={cell ? path.isMarked(cell.look ?? {}) : false}
          title="Mark this look, and another one, to breed them (B)"
          onclick={() => cell && path.mark(cell)}>Mark</button
        >
      </div>
    </div>
    <div class="border-b border-line py-2">
      <label class="flex items-center justify-between gap-2">
        Strength
        <input
          class="w-28 accent-(--aurora)"
          type="range"
          min="0.1"
          max="1"
          step="0.05"
          value={path.strength}
          onchange={(e) => went(() => (path.strength = Number(e.currentTarget.value)))}
        />
      </label>
      <div class="grid grid-cols-2 gap-1 pt-2">
        <button
          class="button h-7! justify-center px-0!"
          title="Other looks, from the same one"
          onclick={() => went(() => path.others())}>Others</button
        >
        <button
          class="button h-7! justify-center px-0!"
          disabled={path.marked.length < 2}
          title="Looks that have something of both that are marked"
          onclick={() => went(() => path.breed())}>Breed</button
        >
        <button
          class="button h-7! justify-center px-0!"
          disabled={!path.canGoBack}
          onclick={() => went(() => path.back())}>Back</button
        >
        <button
          class="button h-7! justify-center px-0!"
          disabled={!path.canGoForward}
          onclick={() => went(() => path.forward())}>Forward</button
        >
      </div>
    </div>
    <fieldset class="py-2">
      <legend class="pb-1 text-[11.5px] text-soft">Numbers that stay as they are</legend>
      {#each drawing?.numbers ?? [] as number (number.path)}
        <label class="flex h-6 items-center gap-2">
          <input
            type="checkbox"
            class="accent-(--aurora)"
            checked={path.locked.includes(number.path)}
            onchange={(e) => went(() => path.lock(number.path, e.currentTarget.checked))}
          />
          <span class="truncate">{number.label}</span>
        </label>
      {/each}
    </fieldset>
  {/snippet}
</SheetDialog>
