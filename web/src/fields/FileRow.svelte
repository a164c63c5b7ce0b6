<script lang="ts">
  import type { ControlProps } from './controls';

  let { desk, field, owner, path }: ControlProps = $props();
  const media = $derived(String((owner as Record<string, unknown>)[field.name] ?? ''));

  function choose(): void {
    desk.tools.choosing = {
      title: field.label,
      take: (chosen) => desk.set(`${path}/${field.name}`, chosen, field.label),
    };
  }
</script>

<div class="flex h-[26px] items-center justify-between border-b border-line" title={field.help}>
  <span>{field.label}</span>
  <button class="truncate rounded px-1.5 font-semibold hover:bg-raised" onclick={choose}
    >{media ? media.split('/').pop() : 'Choose …'}</button
  >
</div>
