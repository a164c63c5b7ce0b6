<script lang="ts">
  import {
    got,
    api,
    Refused,
    type DeliveryCard,
    type DeliveryForm,
    type Note,
    type Order,
    type Problem,
  } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import Choice from '../ui/Choice.svelte';
  import Sheet from '../ui/Sheet.svelte';
  import Queue from './Queue.svelte';

  let { desk, open = $bindable() }: { desk: Desk; open: boolean } = $props();
  let form = $state<DeliveryForm | null>(null);
  let order = $state<Order | null>(null);
  let note = $state('');
  let notes = $state.raw<Note[]>([]);
  let problem = $state<Problem | null>(null);
  let queue = $state<DeliveryCard[]>([]);
  const scales = [
    { value: '0.25', label: 'Quarter' },
    { value: '0.5', label: 'Half' },
    { value: '1', label: 'Full size' },
    { value: '2', label: 'Double' },
  ];
  const width = $derived(Math.round((desk.shot?.width ?? 0) * (order?.scale ?? 1)));
  const height = $derived(Math.round((desk.shot?.height ?? 0) * (order?.scale ?? 1)));

  $effect(() => {
    if (!open) return;
    problem = null;
    void prepare();
    void watch();
    const timer = setInterval(watch, 500);
    return () => clearInterval(timer);
  });

  async function prepare(): Promise<void> {
    try {
      form = await got(
        api.GET('/api/shots/{shot_id}/delivery-form', { params: { path: { shot_id: desk.id } } }),
      );
      order = {
        format: 'png8',
        first: form.first,
        last: form.last,
        folder: form.folder,
        name: form.name,
        scale: 1,
        over_plate: true,
      };
    } catch (error) {
      notices.trouble(error);
    }
  }

  async function tell(): Promise<void> {
    try {
      note = (
        await got(
          api.GET('/api/shots/{shot_id}/delivery-form', {
            params: {
              path: { shot_id: desk.id },
              query: { format: order!.format, over_plate: order!.over_plate },
            },
          }),
        )
      ).alpha_note;
      notes = await got(
        api.POST('/api/shots/{shot_id}/order-notes', {
          params: { path: { shot_id: desk.id } },
          body: order!,
        }),
      );
    } catch (error) {
      notices.trouble(error);
    }
  }

  async function watch(): Promise<void> {
    try {
      queue = await got(api.GET('/api/deliveries'));
    } catch {
      /* the top bar already says that the studio does not answer */
    }
  }

  async function deliver(event: SubmitEvent): Promise<void> {
    event.preventDefault();
    problem = null;
    try {
      await got(
        api.POST('/api/shots/{shot_id}/deliveries', {
          params: { path: { shot_id: desk.id } },
          body: order!,
        }),
      );
      await watch();
    } catch (error) {
      if (error instanceof Refused) problem = error.problem;
      else notices.trouble(error);
    }
  }
</script>

<Sheet
  bind:open
  title="Deliver"
  about="At the shot’s exact rate. Frames and movies appear whole, or not at all."
  wide
>
  {#if form && order}
    {@const o = order}
    <form class="grid grid-cols-[1fr_1fr] gap-x-5 gap-y-2.5" onsubmit={deliver}>
      <div>
        <span class="text-soft">Format</span>
        <Choice
          row={false}
          label="Format"
          value={o.format}
          items={form.formats.map((f) => ({ value: String(f.name), label: String(f.label) }))}
          onset={(v) => {
            o.format = v as Order['format'];
            void tell();
          }}
        />
      </div>
      <div>
        <span class="text-soft">Size · {width} × {height} px</span>
        <Choice
          row={false}
          label="Size"
          value={String(o.scale)}
          items={scales}
          onset={(v) => (o.scale = Number(v))}
        />
      </div>
      <label class="block">
        <span class="text-soft">First frame</span>
        <input class="field w-full" type="number" required bind:value={o.first} />
      </label>
      <label class="block">
        <span class="text-soft"
          >Last frame · {Math.max(0, o.last - o.first + 1)} frames at {desk.shot?.rate} fps</span
        >
        <input class="field w-full" type="number" required bind:value={o.last} />
      </label>
      <label class="block">
        <span class="text-soft">Folder</span>
        <input class="field w-full" required bind:value={o.folder} />
      </label>
      <label class="block">
        <span class="text-soft">Name</span>
        <input class="field w-full" required bind:value={o.name} />
      </label>
      <label class="flex items-center gap-2">
        <input type="checkbox" class="accent-(--aurora)" bind:checked={o.over_plate} onchange={tell} /> Over the
        plate
      </label>
      <div class="flex justify-end">
        <button class="button main">Deliver {Math.max(0, o.last - o.first + 1)} frames</button>
      </div>
      {#if note}<p class="col-span-2 text-soft">{note}</p>{/if}
      {#each notes as one (one.kind)}
        <div class="col-span-2 flex items-center gap-2 rounded-md border border-amber px-2.5 py-1.5">
          <span class="text-amber" aria-hidden="true">⚠</span>
          <p class="flex-1">{one.what} <span class="text-soft">{one.why}</span></p>
          {#if one.mend}
            <button
              type="button"
              class="button"
              onclick={() => {
                order = { ...o, ...one.mend!.order } as Order;
                void tell();
              }}>{one.mend.label}</button
            >
          {/if}
        </div>
      {/each}
      {#if problem}
        <p class="col-span-2 rounded-md border border-red px-2.5 py-1.5 text-red" role="alert">
          ⚠ {problem.where ? `${problem.where}: ` : ''}{problem.what}
          <span class="text-soft">{problem.remedy}</span>
        </p>
      {/if}
    </form>
  {/if}
  <Queue {queue} onchange={watch} />
</Sheet>
