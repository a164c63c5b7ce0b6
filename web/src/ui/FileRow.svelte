<script lang="ts">
  interface Props {
    label: string;
    /** The file in the store; empty: none yet. */
    media: string;
    onclick: () => void;
  }
  let { label, media, onclick }: Props = $props();
</script>

<div class="flex h-[26px] items-center justify-between border-b border-line">
  <span>{label}</span>
  <button class="truncate rounded px-1.5 font-semibold hover:bg-raised" {onclick}
    >{media ? media.split('/').pop() : 'Choose …'}</button
  >
</div>
