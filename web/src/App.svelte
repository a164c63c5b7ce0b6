<script lang="ts">
  import Home from './home/Home.svelte';
  import ShotScreen from './ShotScreen.svelte';
  import { place } from './state/place.svelte';
  import Notices from './ui/Notices.svelte';
</script>

{#if place.shot !== null}
  {#key place.shot}
    <ShotScreen id={place.shot} />
  {/key}
{:else}
  <Home />
{/if}
<Notices />
