<script lang="ts">
  import type { AxisState, SheetAxis, SheetState } from '../api/client';
  import Choice from '../fields/Choice.svelte';
  import EdgeField from './EdgeField.svelte';

  interface Props {
    name: string;
    axis: AxisState | null;
    numbers: SheetState['numbers'];
    /** It may be without a number. */
    none?: string;
    /** The other axis' number cannot be chosen. */
    not: string;
    onset: (axis: SheetAxis | null) => void;
  }
  /** Which number an axis sweeps, and over which range. */
  let { name, axis, numbers, none = '', not, onset }: Props = $props();
  const items = $derived([
    ...(none ? [{ value: '', label: none }] : []),
    ...numbers
      .filter((one) => one.path !== not)
      .map((one) => ({ value: one.path, label: `${one.owner} – ${one.label}` })),
    // Plain numbers are swept, too, though they are not among those that may be driven.
    ...(axis && !numbers.some((one) => one.path === axis.path)
      ? [{ value: axis.path, label: `${axis.owner} – ${axis.label}` }]
      : []),
  ]);
  const range = (change: Partial<SheetAxis>): void =>
    onset({ path: axis!.path, start: axis!.start, end: axis!.end, spacing: axis!.spacing, ...change });
</script>

<div class="border-b border-line py-2">
  <p class="pb-1 text-[11.5px] text-soft">{name}</p>
  <Choice
    label="{name}: number"
    value={axis?.path ?? ''}
    {items}
    row={false}
    onset={(path) => onset(path ? { path, start: null, end: null, spacing: null } : null)}
  />
  {#if axis}
    <div class="flex items-center justify-between gap-1 pt-1.5">
      <EdgeField
        label="{name}: from"
        value={axis.start}
        unit={axis.unit}
        span={axis.end - axis.start}
        ratio={axis.spacing === 'ratio'}
        onset={(start) => range({ start })}
      />
      <span class="text-soft">to</span>
      <EdgeField
        label="{name}: to"
        value={axis.end}
        unit={axis.unit}
        span={axis.end - axis.start}
        ratio={axis.spacing === 'ratio'}
        onset={(end) => range({ end })}
      />
    </div>
    <div class="flex items-center justify-between pt-1.5">
      <Choice
        label="{name}: spacing"
        value={axis.spacing}
        items={[
          { value: 'even', label: 'Even steps' },
          { value: 'ratio', label: 'Equal factors' },
        ]}
        row={false}
        slim
        onset={(spacing) => range({ spacing: spacing as SheetAxis['spacing'] })}
      />
      <button
        class="button h-6! px-2! text-[11.5px]"
        title="The range proposed for the present value"
        onclick={() => onset({ path: axis.path, start: null, end: null, spacing: null })}>Propose</button
      >
    </div>
  {/if}
</div>
