<script lang="ts">
  import { shortcutSettings } from '../state/shortcut_settings.svelte';
  import Switch from '../fields/Switch.svelte';
  import { printed, type Command } from '../keys/commands';

  let { commands }: { commands: Command[] } = $props();
  const places = [
    [
      'On a lane',
      [
        ['Add a point', 'Double-click, or +'],
        ['Move a point', 'Drag, or arrows'],
        ['Remove a point', 'Delete'],
      ],
    ],
    ['On effects and deformers', [['Move up or down', 'Drag, or Alt and an arrow']]],
  ] as const;
  const groups = $derived([...new Set(commands.map((c) => c.group))]);
</script>

<p class="pb-2 text-soft">Numbers: drag, step with arrows (Shift ×10, Alt ÷10) or type; 25*4 works, too.</p>
<Switch
  label="Single-key shortcuts"
  on={shortcutSettings.on}
  hint="Off: only arrows, Space and Ctrl shortcuts work. Ctrl K finds every command."
  onset={() => shortcutSettings.toggle()}
/>
<div class="columns-2 gap-8 pt-3">
  {#each groups as group (group)}
    <div class="mb-4 break-inside-avoid">
      <h3 class="mb-1 font-semibold text-soft">{group}</h3>
      {#each commands.filter((c) => c.group === group && c.key) as command (command.name)}
        <div class="flex min-h-[26px] items-center justify-between border-b border-line">
          <span>{command.name}</span>
          <kbd class="rounded border border-line-strong bg-well px-1.5 font-sans text-[11.5px]"
            >{printed(command.key ?? '')}</kbd
          >
        </div>
      {/each}
    </div>
  {/each}
  {#each places as [where, acts] (where)}
    <div class="mb-4 break-inside-avoid">
      <h3 class="mb-1 font-semibold text-soft">{where}</h3>
      {#each acts as [what, how] (what)}
        <div class="flex min-h-[26px] items-center justify-between border-b border-line">
          <span>{what}</span><span class="text-soft">{how}</span>
        </div>
      {/each}
    </div>
  {/each}
</div>
