<script lang="ts">
  import Sheet from '../ui/Sheet.svelte';
  import { letters } from '../state/letters.svelte';
  import Switch from '../ui/Switch.svelte';
  import { printed, type Command } from './commands';

  let { commands, open = $bindable() }: { commands: Command[]; open: boolean } = $props();
  const places = [
    [
      'On a lane',
      [
        ['Add a point', 'Double-click, or its +'],
        ['Move a point', 'Drag, or arrows'],
        ['Remove a point', 'Delete'],
      ],
    ],
    ['On effects and deformers', [['Do one earlier or later', 'Drag, or Alt and an arrow']]],
  ] as const;
  const groups = $derived([...new Set(commands.map((c) => c.group))]);
</script>

<Sheet
  bind:open
  title="Keys"
  about="Numbers: drag, arrows to step (Shift ×10, Alt ÷10), type to be exact, 25*4 is understood."
  size="wide"
>
  <Switch
    label="Single letters are commands"
    on={letters.on}
    hint="Off: only arrows, Space and keys with Ctrl act; everything is found with Ctrl K."
    onset={() => letters.toggle()}
  />
  <div class="columns-2 gap-8 pt-3">
    {#each groups as group (group)}
      <div class="mb-4 break-inside-avoid">
        <h3 class="mb-1 font-semibold text-soft">{group}</h3>
        {#each commands.filter((c) => c.group === group && c.key) as command (command.name)}
          <div class="flex h-[26px] items-center justify-between border-b border-line">
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
          <div class="flex h-[26px] items-center justify-between border-b border-line">
            <span>{what}</span><span class="text-soft">{how}</span>
          </div>
        {/each}
      </div>
    {/each}
  </div>
</Sheet>
