<script lang="ts">
  import type { Use } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Choice from '../ui/Choice.svelte';
  import NumberRow from '../ui/NumberRow.svelte';

  /** owner: the id of the emitter or group; path: JSON pointer of its use. */
  let { desk, use, owner, path }: { desk: Desk; use: Use; owner: string; path: string } = $props();
  const kinds: { value: Use['kind']; label: string; about: string }[] = [
    { value: 'picture', label: 'A picture', about: '' },
    {
      value: 'glass',
      label: 'Glass',
      about: 'It is not seen: it bends what lies behind it, as glass or hot air does.',
    },
    { value: 'matte', label: 'A matte', about: 'It is not seen: only under it is seen what it is for.' },
    { value: 'cut', label: 'A cut', about: 'It is not seen: it takes away what it is for.' },
    {
      value: 'displacement',
      label: 'Displacement',
      about: 'It is not seen: its red pushes to the right, its green upward; half of each is rest.',
    },
  ];
  const of = $derived([
    { value: '', label: 'All below it' },
    { value: 'plate', label: 'The plate' },
    ...[...desk.shot!.emitters, ...desk.shot!.groups]
      .filter((one) => one.id !== owner)
      .map((one) => ({ value: one.id, label: one.name })),
  ]);
</script>

<Choice
  label="Is used as"
  value={use.kind}
  items={kinds}
  onset={(v) => desk.set(`${path}/kind`, v, 'What it is used as')}
/>
{#if use.kind !== 'picture'}
  <Choice
    label="On"
    value={use.of ?? ''}
    items={of}
    onset={(v) => desk.set(`${path}/of`, v || null, 'What it works on')}
  />
  {#if use.kind === 'glass' || use.kind === 'displacement'}
    <NumberRow {desk} label="Pushes by" model="Use" owner={use} {path} field="amount" />
  {/if}
  <p class="pt-1.5 text-soft">{kinds.find((k) => k.value === use.kind)?.about}</p>
{/if}
