<script lang="ts">
  import { place } from './state/place.svelte';
  import Notices from './ui/Notices.svelte';

  /** Each screen is loaded when it is first opened. */
  const screens = {
    faders: () => import('./faders/Faders.svelte'),
    home: () => import('./home/Home.svelte'),
    shot: () => import('./ShotScreen.svelte'),
    stage: () => import('./stage/Stage.svelte'),
  };
</script>

{#if place.stage !== null}
  {#key place.stage}
    {#await screens.stage() then { default: Stage }}<Stage id={place.stage} />{/await}
  {/key}
{:else if place.faders}
  {#await screens.faders() then { default: Faders }}<Faders />{/await}
{:else if place.shot !== null}
  {#key place.shot}
    {#await screens.shot() then { default: ShotScreen }}<ShotScreen id={place.shot} />{/await}
  {/key}
{:else}
  {#await screens.home() then { default: Home }}<Home />{/await}
{/if}
<Notices />
