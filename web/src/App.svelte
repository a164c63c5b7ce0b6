<script lang="ts">
  import { place } from './state/place.svelte';
  import Later from './ui/Later.svelte';
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
    <Later load={screens.stage}>{#snippet children(Stage)}<Stage id={place.stage!} />{/snippet}</Later>
  {/key}
{:else if place.faders}
  <Later load={screens.faders}>{#snippet children(Faders)}<Faders />{/snippet}</Later>
{:else if place.shot !== null}
  {#key place.shot}
    <Later load={screens.shot}>{#snippet children(ShotScreen)}<ShotScreen id={place.shot!} />{/snippet}</Later
    >
  {/key}
{:else}
  <Later load={screens.home}>{#snippet children(Home)}<Home />{/snippet}</Later>
{/if}
<Notices />
