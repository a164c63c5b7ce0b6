<script lang="ts">
  import { Command as Menu, Dialog } from 'bits-ui';
  import { printed, type Command } from './commands';

  let { commands, open = $bindable() }: { commands: Command[]; open: boolean } = $props();
</script>

<Dialog.Root bind:open>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/45" />
    <Dialog.Content
      class="fixed top-24 left-1/2 z-50 w-[440px] -translate-x-1/2 overflow-hidden rounded-xl border border-line-strong bg-ground shadow-2xl"
    >
      <Dialog.Title class="sr-only">Find a command</Dialog.Title>
      <Menu.Root>
        <Menu.Input
          placeholder="What would you like to do?"
          class="h-11 w-full border-b border-line bg-transparent px-4 text-[14px] outline-none placeholder:text-soft"
        />
        <Menu.List class="max-h-80 overflow-y-auto p-1.5">
          <Menu.Viewport>
            <Menu.Empty class="p-4 text-soft">No command found.</Menu.Empty>
            {#each commands as command (command.name)}
              <Menu.Item
                value={`${command.group} ${command.name}`}
                class="flex h-8 items-center justify-between rounded-md px-2.5 data-selected:bg-aurora-ground"
                onSelect={() => {
                  open = false;
                  setTimeout(command.act, 0);
                }}
              >
                <span>{command.name} <span class="ml-1 text-[11px] text-soft">{command.group}</span></span>
                {#if command.key}<kbd class="font-sans text-[11.5px] text-soft">{printed(command.key)}</kbd
                  >{/if}
              </Menu.Item>
            {/each}
          </Menu.Viewport>
        </Menu.List>
      </Menu.Root>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
