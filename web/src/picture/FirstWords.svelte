<script lang="ts">
  import Icon from '../ui/Icon.svelte';

  let { onclose }: { onclose: () => void } = $props();
</script>

<!-- A new shot teaches in three sentences; they go with the first edit. -->
<div class="flex items-start gap-3 rounded-lg bg-[#101214e0] px-3.5 py-2.5 text-[#d7dcdc]">
  <ol class="flex-1 space-y-0.5">
    <li>
      Drag any number, or a handle on the picture: <span class="text-[#5fe0b0]">the flights</span> show where particles
      will go.
    </li>
    <li>
      What happens <span class="text-[#ff9b8b]">at birth</span> is set below on the left; what changes
      <span class="text-[#7cc7f2]">over life</span> is drawn in the lanes, from birth to death.
    </li>
    <li>Add a plate with P, press Space to play, and press Deliver when it is finished.</li>
  </ol>
  <button class="rounded p-1 hover:text-white" aria-label="Close this hint" onclick={onclose}
    ><Icon name="close" size={13} /></button
  >
</div>
