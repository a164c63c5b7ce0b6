<script lang="ts">
  import { arithmetic } from '../ui/arithmetic';

  interface Props {
    label: string;
    value: number | null;
    unit?: string;
    hint?: string;
    none?: string;
    /** The unit can be changed at a press; name: the current unit, in words. */
    units?: { name: string; hint: string; next: () => void };
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
  class="flex h-[26px] items-center border-b border-line"
  title={hint}
>
  <span class="line-clamp-2 min-w-0 flex-auto pr-1 leading-[13px]">{label}</span>
  <input
    class="w-[74px] flex-none rounded bg-transparent px-1 text-right font-semibold hover:bg-raised focus:bg-well"
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
      class="h-6 w-6 flex-none pl-0.5 text-left text-[11px] text-soft hover:text-word"
      aria-label="{label} is shown in {units.name}"
      title={units.hint}
      onclick={units.next}>{unit}</button
    >
  {:else}
    <span class="w-6 flex-none pl-0.5 text-[11px] text-soft">{unit}</span>
  {/if}
  <!-- Where numbers have their drivers; in a narrow place the label needs it. -->
  <span class="w-[67px] shrink-[1000000]"></span>
</svelte:element>
