<script lang="ts">
  import type { Use } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Choice from '../ui/Choice.svelte';
  import Fields from '../ui/Fields.svelte';

  /** owner: the id of the emitter or group; path: JSON pointer of its use. */
  let { desk, use, owner, path }: { desk: Desk; use: Use; owner: string; path: string } = $props();
  const kinds: { value: Use['kind']; label: string; about: string }[] = [
    { value: 'picture', label: 'Picture', about: '' },
    {
      value: 'glass',
      label: 'Glass',
      about: 'It is not seen: it bends what lies behind it, as glass or hot air does.',
    },
    { value: 'matte', label: 'Matte', about: 'It is not seen: only under it is seen what it is for.' },
    { value: 'cut', label: 'Cut-out', about: 'It is not seen: it takes away what it is for.' },
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

<Choice label="Role" value={use.kind} items={kinds} onset={(v) => desk.set(`${path}/kind`, v, 'Role')} />
{#if use.kind !== 'picture'}
  <Choice
    label="Applies to"
    value={use.of ?? ''}
    items={of}
    onset={(v) => desk.set(`${path}/of`, v || null, 'Applies to')}
  />
  <Fields {desk} model="Use" owner={use} {path} only={['amount']} />
  <p class="pt-1.5 text-soft">{kinds.find((k) => k.value === use.kind)?.about}</p>
{/if}
