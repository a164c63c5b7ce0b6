<script lang="ts">
  import { notices } from '../state/notices.svelte';
  import Icon from './Icon.svelte';
</script>

<div
  class="pointer-events-none fixed right-4 bottom-4 z-70 flex w-96 max-w-[90vw] flex-col gap-2"
  role="status"
>
  {#each notices.list as notice (notice.id)}
    <div
      class="pointer-events-auto flex items-center gap-3 rounded-lg border bg-raised px-3 py-2 shadow-xl {notice.trouble
        ? 'border-red'
        : 'border-line-strong'}"
    >
      <p class="flex-1">
        {#if notice.trouble}<span class="text-red">⚠</span>{/if}
        {notice.text}
        {#if notice.where}<span class="block text-[11px] text-soft">{notice.where}</span>{/if}
      </p>
      {#if notice.mend}
        <button
          class="button"
          onclick={() => {
            notice.mend?.act();
            notices.drop(notice.id);
          }}>{notice.mend.label}</button
        >
      {/if}
      <button class="quiet" aria-label="Dismiss" onclick={() => notices.drop(notice.id)}
        ><Icon name="close" size={13} /></button
      >
    </div>
  {/each}
</div>
