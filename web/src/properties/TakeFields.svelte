<script lang="ts">
  import { api, got, type Take } from '../api/client';
  import NumberBox from '../deliver/NumberBox.svelte';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import { takes } from '../state/takes.svelte';
  import Section from '../ui/Section.svelte';
  import Switch from '../fields/Switch.svelte';

  let { desk, take }: { desk: Desk; take: Take } = $props();
  const path = $derived(desk.path);
  const card = $derived(takes.cardOf(take));
  $effect(() => takes.open(desk, take));
  const shot = $derived(desk.shot!);
  const plays = $derived(shot.controls.filter((one) => one.take === take.id).length);
  const until = $derived(take.at_s + (take.to_s ?? card?.seconds ?? 0));
  const length = $derived((shot.last_frame - shot.first_frame + 1) / desk.player.fps);
  let within = $state(0.004);

  function play(ids: string[], on: boolean): void {
    const changes = shot.controls.flatMap((one, i) =>
      ids.includes(one.id)
        ? [
            { op: 'replace' as const, path: `/controls/${i}/take`, value: on ? take.id : null },
            { op: 'replace' as const, path: `/controls/${i}/lane`, value: '' },
          ]
        : [],
    );
    desk.change(changes, on ? 'Play a take' : 'Play no take');
  }

  async function keys(): Promise<void> {
    const params = {
      path: { shot_id: desk.id, take_id: take.id },
      query: { tolerance: Math.min(0.2, Math.max(0.0001, within)) },
    };
    await desk.act(async () => {
      const found = await got(api.POST('/api/shots/{shot_id}/takes/{take_id}/keys', { params }));
      notices.say(`${found.taken.join('; ')}.`);
      return found.state;
    });
  }

  function lengthen(): void {
    const last = shot.first_frame + Math.ceil(until * desk.player.fps);
    desk.set('/last_frame', last, 'Length of the take');
  }
  const name = $derived(take.name);
</script>

{#if card}
  <p class="py-2 leading-snug text-soft" data-take={card.seconds.toFixed(2)}>
    {card.seconds.toFixed(1)} s, {card.steps_per_s} steps a second, of
    {card.lanes.length}
    {card.lanes.length === 1 ? 'control' : 'controls'}. It plays back exactly as it was performed.
  </p>
  {#each card.lanes as lane (lane.control)}
    <Switch
      label="{lane.name} follows the take"
      on={shot.controls.find((one) => one.id === lane.control)?.take === take.id}
      hint="Replaces its value and keys between the cuts"
      onset={(on) => play([lane.control], on)}
    />
  {/each}
  <div class="flex flex-wrap gap-1.5 py-2">
    <button
      class="button h-6! px-2! text-[11.5px]"
      disabled={plays === card.lanes.length}
      onclick={() =>
        play(
          card.lanes.map((one) => one.control),
          true,
        )}>Follow all lanes</button
    >
    <button
      class="button h-6! px-2! text-[11.5px]"
      disabled={plays === 0}
      onclick={() =>
        play(
          card.lanes.map((one) => one.control),
          false,
        )}>Follow no lane</button
    >
    {#if until > length + 0.05}
      <button class="button h-6! px-2! text-[11.5px]" onclick={lengthen}
        >Set shot length to {until.toFixed(1)} s</button
      >
    {/if}
  </div>
  <Section title="Cut" first about="{take.from_s.toFixed(2)} to {(take.to_s ?? card.seconds).toFixed(2)} s">
    <div class="grid grid-cols-3 gap-2 py-1.5">
      <NumberBox
        label="Start (s)"
        value={take.at_s}
        onset={(v) => desk.set(`${path}/at_s`, v, `${name}: begins`)}
      />
      <NumberBox
        label="From (s)"
        low={0}
        value={take.from_s}
        onset={(v) => desk.set(`${path}/from_s`, v, `${name}: from`)}
      />
      <NumberBox
        label="To (s)"
        low={0}
        value={Number((take.to_s ?? card.seconds).toFixed(3))}
        onset={(v) => desk.set(`${path}/to_s`, v >= card.seconds ? null : v, `${name}: to`)}
      />
    </div>
  </Section>
  <Section title="Keys from the take" about="as few as come so near">
    <div class="flex items-end gap-2 py-1.5">
      <div class="w-24">
        <NumberBox label="Within" value={within} low={0.0001} high={0.2} onset={(v) => (within = v)} />
      </div>
      <button class="button h-7! px-2!" onclick={() => void keys()}>Convert to keys</button>
    </div>
    <p class="leading-snug text-soft">The take remains: the graph of a control shows it behind the keys.</p>
  </Section>
{:else}
  <p class="py-2 text-soft">Reading …</p>
{/if}
