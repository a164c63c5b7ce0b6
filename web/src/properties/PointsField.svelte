<script lang="ts">
  import type { ControlProps } from '../fields/controls';
  import PathButtons from './PathButtons.svelte';

  /** The points of a path that is part of something. */
  let { desk, field, owner, path }: ControlProps = $props();
</script>

<PathButtons {desk} path="{path}/{field.name}" closed={(owner as { closed?: boolean }).closed ?? false} />
