<script lang="ts">
  import type { ControlProps } from './controls';
  import TimeField from './TimeField.svelte';

  /** A moment or a length of time, which may be left open if the schema has no default for it. */
  let { desk, field, owner, path }: ControlProps = $props();
  const value = $derived((owner as Record<string, number | null>)[field.name] ?? null);
</script>

<TimeField
  {desk}
  label={field.label}
  {value}
  moment={field.shownAs === 'moment'}
  none={field.optional ? 'never' : undefined}
  hint={field.help}
  onset={(v) => desk.set(`${path}/${field.name}`, field.optional ? v : (v ?? 0), field.label)}
/>
