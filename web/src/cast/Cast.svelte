<script lang="ts">
  import { DropdownMenu } from 'bits-ui';
  import type { Chosen, Desk } from '../state/desk.svelte';
  import Icon, { type IconName } from '../ui/Icon.svelte';

  let { desk, onplate }: { desk: Desk; onplate: () => void } = $props();
  const shot = $derived(desk.shot!);
  let renaming = $state<string | null>(null);

  interface Row {
    chosen: Chosen;
    icon: IconName;
    name: string;
    on: boolean;
    path: string;
  }
  const rows = $derived<Row[]>([
    ...(shot.plate
      ? [
          {
            chosen: { kind: 'plate' as const },
            icon: 'plate' as const,
            name: shot.plate.name,
            on: shot.plate.on,
            path: '/plate',
          },
        ]
      : []),
    ...shot.emitters.map((e, i) => ({
      chosen: { kind: 'emitter' as const, id: e.id },
      icon: 'emitter' as const,
      name: e.name,
      on: e.on,
      path: `/emitters/${i}`,
    })),
    ...shot.forces.map((f, i) => ({
      chosen: { kind: 'force' as const, id: f.id },
      icon: f.kind,
      name: f.name,
      on: f.on,
      path: `/forces/${i}`,
    })),
  ]);

  function idOf(chosen: Chosen): string {
    return 'id' in chosen ? chosen.id : chosen.kind;
  }

  const item = 'flex h-7 items-center gap-2 rounded px-2 data-highlighted:bg-aurora-ground';

  function move(row: Row, by: number): void {
    const list = [...shot.emitters];
    const at = list.findIndex((e) => 'id' in row.chosen && e.id === row.chosen.id);
    const [thing] = list.splice(at, 1);
    list.splice(at + by, 0, thing!);
    desk.set('/emitters', list, 'Order of the cast');
  }
</script>

<div class="head">
  <span>Cast</span>
  <DropdownMenu.Root>
    <DropdownMenu.Trigger class="quiet -my-2" aria-label="Add to the cast"
      ><Icon name="plus" size={14} /></DropdownMenu.Trigger
    >
    <DropdownMenu.Portal>
      <DropdownMenu.Content
        align="start"
        sideOffset={2}
        class="z-60 w-44 rounded-lg border border-line-strong bg-raised p-1 shadow-xl"
      >
        <DropdownMenu.Item class={item} onSelect={() => desk.add('emitter')}
          ><Icon name="emitter" /> Emitter</DropdownMenu.Item
        >
        <DropdownMenu.Item class={item} onSelect={() => desk.add('gravity')}
          ><Icon name="gravity" /> Gravity</DropdownMenu.Item
        >
        <DropdownMenu.Item class={item} onSelect={() => desk.add('drag')}
          ><Icon name="drag" /> Drag</DropdownMenu.Item
        >
        <DropdownMenu.Item class={item} onSelect={onplate}><Icon name="plate" /> Plate …</DropdownMenu.Item>
      </DropdownMenu.Content>
    </DropdownMenu.Portal>
  </DropdownMenu.Root>
</div>

<ul class="px-2 pb-2">
  {#each rows as row (idOf(row.chosen))}
    {@const id = idOf(row.chosen)}
    {@const here = idOf(desk.chosen) === id}
    <li
      class="group relative flex h-[27px] items-center rounded-md {here
        ? 'bg-aurora-ground'
        : 'hover:bg-raised'}"
    >
      {#if here}<span class="absolute top-1 bottom-1 left-0 w-[2.5px] rounded bg-aurora"></span>{/if}
      {#if renaming === id}
        <!-- svelte-ignore a11y_autofocus -->
        <input
          class="ml-8 w-full rounded bg-well px-1"
          aria-label="Name"
          autofocus
          value={row.name}
          onblur={(e) => {
            renaming = null;
            const name = e.currentTarget.value.trim();
            if (name && name !== row.name) desk.set(`${row.path}/name`, name, 'Rename');
          }}
          onkeydown={(e) => {
            e.stopPropagation();
            if (e.key === 'Enter') e.currentTarget.blur();
            if (e.key === 'Escape') renaming = null;
          }}
        />
      {:else}
        <button
          class="flex h-full min-w-0 flex-1 items-center gap-2.5 pl-2.5 text-left"
          class:opacity-45={!row.on}
          aria-current={here}
          onclick={() => (desk.chosen = row.chosen)}
          ondblclick={() => (renaming = id)}
        >
          <span class="text-soft"><Icon name={row.icon} size={15} /></span>
          <span class="truncate">{row.name}</span>
        </button>
        <DropdownMenu.Root>
          <DropdownMenu.Trigger
            class="quiet opacity-0 group-hover:opacity-100 focus:opacity-100 data-[state=open]:opacity-100"
            aria-label="More for {row.name}"><Icon name="more" size={14} /></DropdownMenu.Trigger
          >
          <DropdownMenu.Portal>
            <DropdownMenu.Content
              sideOffset={2}
              class="z-60 w-44 rounded-lg border border-line-strong bg-raised p-1 shadow-xl"
            >
              <DropdownMenu.Item class={item} onSelect={() => (renaming = id)}>Rename</DropdownMenu.Item>
              {#if 'id' in row.chosen}
                {@const chosen = row.chosen}
                <DropdownMenu.Item
                  class={item}
                  onSelect={() =>
                    desk.add(
                      row.icon === 'emitter' ? 'emitter' : row.icon === 'drag' ? 'drag' : 'gravity',
                      id,
                    )}>Copy</DropdownMenu.Item
                >
                {#if chosen.kind === 'emitter'}
                  <DropdownMenu.Item class={item} onSelect={() => desk.alone(id)}
                    >{desk.solo ? 'Show all again' : 'Show alone'}</DropdownMenu.Item
                  >
                  {#if shot.emitters[0]?.id !== id}
                    <DropdownMenu.Item class={item} onSelect={() => move(row, -1)}
                      >Draw earlier</DropdownMenu.Item
                    >
                  {/if}
                  {#if shot.emitters[shot.emitters.length - 1]?.id !== id}
                    <DropdownMenu.Item class={item} onSelect={() => move(row, 1)}
                      >Draw later</DropdownMenu.Item
                    >
                  {/if}
                {/if}
                <DropdownMenu.Item class={item} onSelect={() => desk.remove(id)}>Remove</DropdownMenu.Item>
              {:else}
                <DropdownMenu.Item class={item} onSelect={onplate}>Another plate …</DropdownMenu.Item>
                <DropdownMenu.Item class={item} onSelect={() => desk.set('/plate', null, 'Remove the plate')}
                  >Remove</DropdownMenu.Item
                >
              {/if}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
        <button
          class="quiet"
          aria-label="{row.name} is {row.on ? 'on' : 'off'}"
          aria-pressed={row.on}
          title={row.on ? 'Switch off' : 'Switch on'}
          onclick={() => desk.set(`${row.path}/on`, !row.on, row.on ? 'Switch off' : 'Switch on')}
        >
          <span class="size-[7px] rounded-full {row.on ? 'bg-soft' : 'border border-soft'}"></span>
        </button>
      {/if}
    </li>
  {/each}
</ul>
{#if !shot.plate}
  <button class="mx-3 mb-2 flex items-center gap-2 text-soft hover:text-word" onclick={onplate}
    ><Icon name="plate" size={15} /> Put a plate under it …</button
  >
{/if}
