<script lang="ts">
  import type { NumberValue } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { specs } from '../state/specs.svelte';
  import NumberField from './NumberField.svelte';

  interface Props {
    desk: Desk;
    /** Another label than the schema's. */
    label?: string;
    model: string;
    /** The thing that holds the number, and its JSON pointer. */
    owner: object;
    path: string;
    field: string;
    /** Another unit than the schema's. */
    unit?: string;
  }
  let { desk, label, model, owner, path, field, unit }: Props = $props();
  const number = $derived((owner as Record<string, NumberValue>)[field]!);
</script>

<NumberField
  {desk}
  label={label ?? specs.label(model, field)}
  path="{path}/{field}"
  {number}
  spec={unit === undefined ? specs.of(model, field) : { ...specs.of(model, field), unit }}
/>
