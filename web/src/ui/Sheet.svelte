<script lang="ts">
  import { Dialog } from 'bits-ui';
  import type { Snippet } from 'svelte';
  import Icon from './Icon.svelte';

  interface Props {
    open: boolean;
    title: string;
    about?: string;
    size?: 'small' | 'wide' | 'broad';
    children: Snippet;
  }
  let { open = $bindable(), title, about = '', size = 'small', children }: Props = $props();
  const widths = { small: 'w-[460px]', wide: 'w-[760px]', broad: 'w-[960px]' };
</script>

<Dialog.Root bind:open>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/55" />
    <Dialog.Content
      class="fixed top-1/2 left-1/2 z-50 max-h-[90vh] -translate-x-1/2 -translate-y-1/2 overflow-auto rounded-xl border border-line-strong bg-ground p-5 shadow-2xl {widths[
        size
      ]} max-w-[94vw]"
    >
      <div class="mb-3 flex items-start justify-between">
        <div>
          <Dialog.Title class="text-[16px] font-semibold">{title}</Dialog.Title>
          <Dialog.Description class="text-soft">{about}</Dialog.Description>
        </div>
        <Dialog.Close class="quiet" aria-label="Close"><Icon name="close" /></Dialog.Close>
      </div>
      {@render children()}
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
