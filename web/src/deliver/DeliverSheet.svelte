<script lang="ts">
  import { api, got, type DeliveryCard, type Farm as FarmState, type Order } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import FileButton from '../fields/FileButton.svelte';
  import Icon from '../ui/Icon.svelte';
  import Sheet from '../ui/Sheet.svelte';
  import Farm from './Farm.svelte';
  import { Ordering } from './order.svelte';
  import OrderFields from './OrderFields.svelte';
  import Queue from './Queue.svelte';
  import { bytes, lasting } from './summary';

  let { desk, open = $bindable() }: { desk: Desk; open: boolean } = $props();
  // svelte-ignore state_referenced_locally
  const ordering = new Ordering(desk);
  let queue = $state<DeliveryCard[]>([]);
  let farm = $state.raw<FarmState | null>(null);
  let naming = $state<string | null>(null);
  const order = $derived(ordering.order);
  const preview = $derived(ordering.preview);
  const problem = $derived(
    ordering.problem ??
      (preview?.refused
        ? { what: preview.refused, where: preview.where ?? '', remedy: preview.remedy ?? '' }
        : null),
  );

  $effect(() => {
    if (!open) return;
    void ordering.prepare();
    void watch();
    const timer = setInterval(watch, 500);
    return () => clearInterval(timer);
  });

  async function watch(): Promise<void> {
    try {
      queue = await got(api.GET('/api/deliveries'));
      if (farm === null || farm.scheduler) farm = await got(api.GET('/api/farm'));
    } catch {
      /* the top bar already says that the studio does not answer */
    }
  }

  async function deliver(event: SubmitEvent): Promise<void> {
    event.preventDefault();
    if (await ordering.deliver()) await watch();
  }

  /** The enter key ends typing; only the button orders. */
  function typed(event: KeyboardEvent): void {
    if (event.key !== 'Enter' || !(event.target instanceof HTMLInputElement)) return;
    event.preventDefault();
    event.target.blur();
  }

  async function keep(): Promise<void> {
    const name = naming?.trim();
    naming = null;
    if (name) await ordering.keep(name);
  }
</script>

<Sheet
  bind:open
  title="Deliver"
  about="Files appear only when they are complete, and are checked once more."
  size="broad"
>
  {#if ordering.form && order}
    <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
    <form class="grid grid-cols-[230px_1fr] gap-x-6" onsubmit={deliver} onkeydown={typed}>
      <nav aria-label="Purposes">
        <h3 class="mb-1.5 text-soft">What is it for?</h3>
        <ul class="flex flex-col gap-1">
          {#each ordering.form.purposes as purpose (purpose.id ?? purpose.name)}
            {@const on = order.purpose === purpose.name}
            <li class="flex items-stretch gap-0.5">
              <button
                type="button"
                class="min-w-0 flex-1 rounded-lg border px-2.5 py-1.5 text-left {on
                  ? 'border-aurora bg-aurora-ground'
                  : 'border-transparent hover:bg-raised'}"
                aria-pressed={on}
                onclick={() => ordering.choose(purpose)}
              >
                <span class="block font-semibold">{purpose.name}</span>
                {#if on && purpose.about}<span class="block text-[11.5px] text-soft">{purpose.about}</span
                  >{/if}
              </button>
              {#if purpose.id != null}
                <a
                  class="quiet"
                  href="/api/purposes/{purpose.id}/export"
                  download
                  title="Export as a file"
                  aria-label="Export {purpose.name} as a file">↓</a
                >
                <button
                  type="button"
                  class="quiet"
                  aria-label="Forget {purpose.name}"
                  onclick={() => ordering.drop(purpose.id!)}><Icon name="close" size={11} /></button
                >
              {/if}
            </li>
          {/each}
        </ul>
        <div class="mt-2 flex flex-wrap gap-1.5">
          {#if naming === null}
            <button
              type="button"
              class="button h-6! px-2! text-[11.5px]"
              onclick={() => (naming = order.purpose ? `${order.purpose}, mine` : 'Mine')}
              >Save as purpose …</button
            >
            <FileButton
              text="Import …"
              label="Purpose file"
              accept=".json"
              ontake={(file) => ordering.take(file)}
            />
          {:else}
            <!-- svelte-ignore a11y_autofocus -->
            <input
              class="field w-full"
              aria-label="Purpose name"
              autofocus
              maxlength="120"
              bind:value={naming}
              onkeydown={(e) => {
                e.stopPropagation();
                if (e.key === 'Enter') {
                  e.preventDefault();
                  void keep();
                } else if (e.key === 'Escape') {
                  e.preventDefault();
                  naming = null;
                }
              }}
            />
            <button type="button" class="button h-6! px-2! text-[11.5px]" onclick={keep}>Keep</button>
          {/if}
        </div>
      </nav>
      <div class="min-w-0">
        <OrderFields {ordering} />
        <div class="mt-3 rounded-lg border border-line bg-raised px-3 py-2" aria-live="polite">
          {#if preview}
            <div class="flex items-baseline justify-between gap-3">
              <span class="truncate font-semibold" title={preview.folder}
                >{preview.first}{#if preview.last}<span class="px-1 text-soft">…</span
                  >{preview.last}{/if}</span
              >
              <span class="shrink-0 text-soft"
                >{preview.width} × {preview.height} · {preview.rate} fps · {preview.length_s.toFixed(2)} s</span
              >
            </div>
            <div class="mt-0.5 flex items-center justify-between gap-3">
              <span class="text-soft"
                >{preview.count}
                {preview.count === 1 ? 'frame' : 'frames'} · about {bytes(
                  preview.bytes,
                )}{#if preview.seconds != null}<span class="ml-1">· {lasting(preview.seconds)}</span
                  >{/if}</span
              >
              <button class="button main" disabled={problem !== null}
                >Deliver {preview.count} {preview.count === 1 ? 'frame' : 'frames'}</button
              >
            </div>
            {#each [preview.alpha, preview.sound].filter(Boolean) as note (note)}<p
                class="mt-1 text-[11.5px] text-soft"
              >
                {note}
              </p>{/each}
          {:else if !problem}<p class="text-soft">Estimating …</p>{/if}
          {#if problem}
            <p class="mt-1 text-red" role="alert">
              ⚠ {problem.where ? `${problem.where}: ` : ''}{problem.what}
              <span class="text-soft">{problem.remedy}</span>
            </p>
          {/if}
        </div>
        {#each preview?.notes ?? [] as one (one.kind)}
          <div class="mt-1.5 flex items-center gap-2 rounded-md border border-amber px-2.5 py-1.5">
            <span class="text-amber" aria-hidden="true">⚠</span>
            <p class="flex-1">{one.what} <span class="text-soft">{one.why}</span></p>
            {#if one.mend}
              <button
                type="button"
                class="button"
                onclick={() => ordering.set(one.mend!.order as Partial<Order>)}>{one.mend.label}</button
              >
            {/if}
          </div>
        {/each}
      </div>
    </form>
  {/if}
  {#if farm?.scheduler}<Farm {farm} />{/if}
  <Queue {queue} onchange={watch} />
</Sheet>
