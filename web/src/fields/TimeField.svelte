<script lang="ts" module>
  /** Whether times are shown in frames: shared by all fields. */
  const shared = $state({ frames: false });
</script>

<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import PlainField from './PlainField.svelte';

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
  const first = $derived(moment ? (desk.shot?.first_frame ?? 0) : 0);
  const shown = $derived(
    value === null ? null : Number((shared.frames ? value * desk.player.fps + first : value).toFixed(4)),
  );

  function put(found: number | null): void {
    const seconds = found !== null && shared.frames ? (found - first) / desk.player.fps : found;
    onset(seconds === null ? null : Number(seconds.toFixed(9)));
  }
</script>

<PlainField
  {label}
  value={shown}
  unit={shared.frames ? 'fr' : 's'}
  {hint}
  {none}
  units={{
    name: shared.frames ? 'frames' : 'seconds',
    hint: 'In seconds or in frames',
    next: () => (shared.frames = !shared.frames),
  }}
  onset={put}
/>
