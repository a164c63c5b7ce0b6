<script lang="ts">
  import { api, got, type DeliveryCard } from '../api/client';
  import { notices } from '../state/notices.svelte';
  import Icon from '../ui/Icon.svelte';
  import { lasting } from './summary';

  let { queue, onchange }: { queue: DeliveryCard[]; onchange: () => void } = $props();
  const words: Record<string, string> = {
    waiting: 'waiting',
    working: 'working',
    done: 'done, checked',
    cancelled: 'cancelled',
    paused: 'paused',
    failed: 'stopped',
  };

  const of = (job: DeliveryCard) => ({ params: { path: { delivery_id: job.id! } } });

  async function act(doing: () => Promise<unknown>): Promise<void> {
    try {
      await doing();
    } catch (error) {
      notices.trouble(error);
    }
    onchange();
  }
</script>

{#if queue.length}
  <h3 class="mt-5 mb-1.5 font-semibold text-soft">Queue</h3>
  <ul class="flex flex-col gap-1.5">
    {#each queue as job (job.id)}
      <li
        class="flex items-center gap-3 rounded-lg border border-line bg-raised p-2"
        data-delivery={job.id}
        data-state={job.state}
      >
        {#if job.done > 0}
          <img
            class="h-12 w-[85px] rounded bg-surround object-cover"
            src="/api/deliveries/{job.id}/last?{job.done}"
            alt="Last finished frame"
          />
        {:else}
          <span class="h-12 w-[85px] rounded bg-well"></span>
        {/if}
        <div class="min-w-0 flex-1">
          <div class="flex justify-between gap-2">
            <span class="truncate font-semibold">{job.shot_name} · {job.format_label}</span>
            <span
              class={job.state === 'failed' ? 'text-red' : job.state === 'done' ? 'text-aurora' : 'text-soft'}
              >{job.state === 'failed' ? '⚠ ' : ''}{words[job.state]}</span
            >
          </div>
          <progress
            class="h-1.5 w-full accent-(--aurora)"
            max={job.total}
            value={job.done}
            aria-label="Progress"
          ></progress>
          <div class="truncate text-[11px] text-soft" title={job.problem ?? job.result}>
            {job.done} of {job.total} frames{#if job.seconds_left !== null}<span class="ml-1"
                >· {lasting(job.seconds_left)} left · {(1000 / job.ms_per_frame).toFixed(1)} frames/s</span
              >{/if}
            {#if job.problem}· <span class="text-red">{job.problem}</span>{:else if job.result}· {job.result}{/if}
          </div>
        </div>
        {#if job.state === 'waiting'}
          <button
            class="quiet"
            aria-label="Move to front"
            title="Move to the front of the queue"
            onclick={() => act(() => got(api.POST('/api/deliveries/{delivery_id}/first', of(job))))}>↑</button
          >
        {/if}
        {#if job.state === 'waiting' || job.state === 'working'}
          <button
            class="button"
            onclick={() => act(() => got(api.POST('/api/deliveries/{delivery_id}/pause', of(job))))}
            >Pause</button
          >
          <button
            class="button"
            onclick={() => act(() => got(api.POST('/api/deliveries/{delivery_id}/cancel', of(job))))}
            >Cancel</button
          >
        {:else if job.state === 'cancelled' || job.state === 'failed' || job.state === 'paused'}
          <button
            class="button"
            onclick={() => act(() => got(api.POST('/api/deliveries/{delivery_id}/resume', of(job))))}
            >Resume</button
          >
        {/if}
        {#if job.state !== 'working'}
          <button
            class="quiet"
            aria-label="Remove from the list"
            title="Remove from the list; files stay"
            onclick={() => act(() => got(api.DELETE('/api/deliveries/{delivery_id}', of(job))))}
            ><Icon name="close" size={13} /></button
          >
        {/if}
      </li>
    {/each}
  </ul>
{/if}
