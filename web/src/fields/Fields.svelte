<script lang="ts">
  import type { Desk } from '../state/desk.svelte';
  import { specs } from '../state/specs.svelte';
  import Choice from './Choice.svelte';
  import ColourField from './ColourField.svelte';
  import NumberRow from './NumberRow.svelte';
  import PlainField from './PlainField.svelte';
  import Switch from './Switch.svelte';
  import Self from './Fields.svelte';
  import TextField from './TextField.svelte';
  import { controls } from './controls';
  import { choicesOf, found } from '../state/scene_items';

  interface Props {
    desk: Desk;
    model: string;
    owner: object;
    path: string;
    /** Only these, in this order; else all that the model has and that make sense now. */
    only?: readonly string[];
    without?: readonly string[];
    /** Only those of a panel. */
    panel?: string;
  }
  let { desk, model, owner, path, only, without = [], panel }: Props = $props();
  const values = $derived(owner as Record<string, unknown>);
  /** The thing that has the part: it does not name itself. */
  const holder = $derived(
    (found(desk.shot, path.split('/').slice(0, 3).join('/')) as { id?: string } | undefined)?.id ?? '',
  );
  const fields = $derived.by(() => {
    const every = specs
      .fields(model)
      .filter((f) => f.name in values && !without.includes(f.name) && specs.applies(model, f.name, values))
      .filter((f) => panel === undefined || f.panel === panel);
    return only ? only.flatMap((name) => every.filter((f) => f.name === name)) : every;
  });
</script>

{#each fields as field (field.name)}
  {@const label = field.label}
  {@const at = `${path}/${field.name}`}
  {#if field.kind === 'part'}
    <Self {desk} model={field.shownAs} owner={values[field.name] as object} path={at} />
  {:else if field.kind === 'special'}
    {@const Special = controls[field.shownAs]}
    <Special {desk} {field} {owner} {path} />
  {:else if field.kind === 'number'}
    <NumberRow {desk} {label} {model} {owner} {path} field={field.name} />
  {:else if field.kind === 'choice'}
    <Choice
      {label}
      value={String(values[field.name])}
      items={field.choices}
      hint={field.help}
      onset={(v) => desk.set(at, v, label)}
    />
  {:else if field.kind === 'switch'}
    <Switch
      {label}
      on={values[field.name] === true}
      hint={field.help}
      onset={(on) => desk.set(at, on, label)}
    />
  {:else if field.kind === 'colour'}
    <ColourField
      {desk}
      {label}
      value={String(values[field.name])}
      hint={field.help}
      onset={(v) => desk.set(at, v, label)}
    />
  {:else if field.kind === 'thing' && field.refers}
    <Choice
      {label}
      value={String(values[field.name] ?? '')}
      items={[
        { value: '', label: field.refers.none },
        ...choicesOf(desk.shot!, field.refers.to, String(values.id ?? '')),
      ]}
      hint={field.help}
      onset={(v) => desk.set(at, v || null, label)}
    />
  {:else if field.kind === 'things' && field.refers}
    {@const named = values[field.name] as string[]}
    {#each choicesOf(desk.shot!, field.refers.to, holder) as one (one.value)}
      <Switch
        label="{label} {one.label}"
        on={named.includes(one.value)}
        hint={field.help}
        onset={(on) =>
          desk.set(at, on ? [...named, one.value] : named.filter((id) => id !== one.value), label)}
      />
    {/each}
  {:else if field.kind === 'text'}
    <TextField
      {label}
      value={String(values[field.name])}
      hint={field.help}
      onset={(v) => desk.set(at, v, label)}
    />
  {:else}
    <PlainField
      {label}
      value={values[field.name] as number}
      hint={field.help}
      onset={(v) => v !== null && desk.set(at, v, label)}
    />
  {/if}
{/each}
