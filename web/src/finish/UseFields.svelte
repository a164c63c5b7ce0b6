<script lang="ts">
  import type { Use } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import Choice from '../fields/Choice.svelte';
  import Fields from '../fields/Fields.svelte';

  /** owner: the id of the emitter or group; path: JSON pointer of its use. */
  let { desk, use, owner, path }: { desk: Desk; use: Use; owner: string; path: string } = $props();
  const kinds: { value: Use['kind']; label: string; about: string }[] = [
    { value: 'picture', label: 'Picture', about: '' },
    {
      value: 'glass',
      label: 'Glass',
      about: 'Invisible: it refracts what is behind it, like glass or hot air.',
    },
    { value: 'matte', label: 'Matte', about: 'Invisible: its target shows only where it covers it.' },
    { value: 'cut', label: 'Cut-out', about: 'Invisible: it cuts holes into its target.' },
    {
      value: 'displacement',
      label: 'Displacement',
      about:
        'Invisible: red moves the picture to the right, green moves it upwards; half of each leaves it unmoved.',
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
