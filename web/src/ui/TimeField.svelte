<script lang="ts" module>
  /** Whether times are told in frames: the same for every field. */
  const told = $state({ frames: false });
</script>

<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import { arithmetic } from './arithmetic';

  interface Props {
    desk: Desk;
    label: string;
    /** In seconds of shot time. */
    value: number | null;
    /** A moment, not a length: in frames it is a frame's number. */
    moment?: boolean;
    hint?: string;
    none?: string;
    onset: (value: number | null) => void;
  }
  let { desk, label, value, moment = false, hint = '', none, onset }: Props = $props();
  let wrong = $state(false);
  const first = $derived(moment ? (desk.shot?.first_frame ?? 0) : 0);
  const text = $derived(
    value === null ? '' : String(Number((told.frames ? value * desk.fps + first : value).toFixed(4))),
  );

  function put(event: Event): void {
    const input = event.currentTarget as HTMLInputElement;
    if (input.value.trim() === '' && none !== undefined) {
      wrong = false;
      onset(null);
      return;
    }
    const found = arithmetic(input.value);
    wrong = found === null;
    if (found === null) return;
    const seconds = told.frames ? (found - first) / desk.fps : found;
    if (Math.abs(seconds - (value ?? NaN)) > 1e-9 || value === null) onset(Number(seconds.toFixed(9)));
    else input.value = text;
  }
</script>

<div
  class="grid h-[26px] grid-cols-[minmax(0,1fr)_74px_27px_70px] items-center border-b border-line"
  title={hint}
>
  <span class="truncate pr-1">{label}</span>
  <input
    class="w-full rounded bg-transparent px-1 text-right font-semibold hover:bg-raised focus:bg-well"
    class:text-red={wrong}
    aria-label={label}
    aria-invalid={wrong}
    value={text}
    placeholder={none}
    onchange={put}
    onkeydown={(e) => {
      e.stopPropagation();
      if (e.key === 'Enter') e.currentTarget.blur();
    }}
  />
  <button
    class="h-6 pl-0.5 text-left text-[11px] text-soft hover:text-word"
    aria-label="{label} is told in {told.frames ? 'frames' : 'seconds'}"
    title="In seconds or in frames"
    onclick={() => (told.frames = !told.frames)}>{told.frames ? 'fr' : 's'}</button
  >
  <span></span>
</div>
