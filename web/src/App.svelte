<script lang="ts">
  import Faders from './faders/Faders.svelte';
  import Home from './home/Home.svelte';
  import ShotScreen from './ShotScreen.svelte';
  import Stage from './stage/Stage.svelte';
  import { place } from './state/place.svelte';
  import Notices from './ui/Notices.svelte';
</script>

{#if place.stage !== null}
  {#key place.stage}<Stage id={place.stage} />{/key}
{:else if place.faders}
  <Faders />
{:else if place.shot !== null}
  {#key place.shot}
    <ShotScreen id={place.shot} />
  {/key}
{:else}
  <Home />
{/if}
<Notices />
