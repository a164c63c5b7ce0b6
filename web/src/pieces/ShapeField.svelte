<script lang="ts">
  import Choice from '../fields/Choice.svelte';
  import Fields from '../fields/Fields.svelte';
  import type { ControlProps } from '../fields/controls';
  import { specs } from '../state/specs.svelte';

  /** A shape within a part: its kind, and the fields of that kind. */
  let { desk, field, owner, path: part }: ControlProps = $props();
  const path = $derived(`${part}/${field.name}`);
  const shape = $derived((owner as Record<string, { kind: string } | null>)[field.name] ?? null);
  const kind = $derived(specs.shapes.find((one) => one.kind === shape?.kind));
  const items = $derived([
    ...(field.optional ? [{ value: '', label: 'Itself' }] : []),
    ...specs.shapes.map((one) => ({ value: one.kind, label: one.title })),
  ]);
</script>

<Choice
  label={field.label}
  value={shape?.kind ?? ''}
  {items}
  hint={field.help}
  onset={(value) => desk.set(path, value ? { kind: value } : null, field.label)}
/>
{#if shape && kind}
  <div class="pl-3"><Fields {desk} model={kind.model} owner={shape} {path} /></div>
{/if}
