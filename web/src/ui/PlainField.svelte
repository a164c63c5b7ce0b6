<script lang="ts">
  import { arithmetic } from './arithmetic';

  interface Props {
    label: string;
    value: number | null;
    unit?: string;
    hint?: string;
    none?: string;
    /** The unit can be changed at a press; told: what it is now, in words. */
    units?: { told: string; hint: string; next: () => void };
    onset: (value: number | null) => void;
  }
  let { label, value, unit = '', hint = '', none, units, onset }: Props = $props();
  let wrong = $state(false);

  function put(event: Event): void {
    const input = event.currentTarget as HTMLInputElement;
    if (input.value.trim() === '' && none !== undefined) {
      wrong = false;
      onset(null);
      return;
    }
    const found = arithmetic(input.value);
    wrong = found === null;
    if (found !== null && found !== value) onset(found);
    else if (found !== null) input.value = String(value);
  }
</script>

<!-- A label holds one control only; where the unit is another, the field is named by its own words. -->
<svelte:element
  this={units ? 'div' : 'label'}
  class="grid h-[26px] grid-cols-[minmax(0,1fr)_74px_24px_67px] items-center border-b border-line"
  title={hint}
>
  <span class="truncate pr-1">{label}</span>
  <input
    class="w-full rounded bg-transparent px-1 text-right font-semibold hover:bg-raised focus:bg-well"
    class:text-red={wrong}
    aria-label={label}
    aria-invalid={wrong}
    value={value ?? ''}
    placeholder={none}
    onchange={put}
    onkeydown={(e) => {
      e.stopPropagation();
      if (e.key === 'Enter') e.currentTarget.blur();
    }}
  />
  {#if units}
    <button
      class="h-6 pl-0.5 text-left text-[11px] text-soft hover:text-word"
      aria-label="{label} is told in {units.told}"
      title={units.hint}
      onclick={units.next}>{unit}</button
    >
  {:else}
    <span class="pl-0.5 text-[11px] text-soft">{unit}</span>
  {/if}
  <span></span>
</svelte:element>
