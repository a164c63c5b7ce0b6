<script lang="ts">
  import { DropdownMenu } from 'bits-ui';
  import { api, got, upload, type Force, type Media, type Thing } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { specs } from '../state/specs.svelte';
  import type { Selection, ThingKind } from '../state/scene_items';
  import { notices } from '../state/notices.svelte';
  import FileButton from '../fields/FileButton.svelte';
  import Icon, { type IconName } from '../ui/Icon.svelte';

  let { desk, onplate, onlibrary }: { desk: Desk; onplate: () => void; onlibrary: () => void } = $props();
  const shot = $derived(desk.shot!);
  const SOUNDS = '.wav,.flac,.mp3,.m4a,.aac,.ogg,.oga,.opus,.aif,.aiff,.mov,.mp4,.mkv,.webm';
  let renaming = $state<string | null>(null);

  interface Row {
    chosen: Selection;
    icon: IconName;
    iconPath?: string;
    name: string;
    on: boolean | null;
    path: string;
  }
  const iconOf = (kind: string): string => specs.forces.find((one) => one.kind === kind)?.icon ?? '';
  const rows = $derived.by<{ title: string; rows: Row[] }[]>(() => {
    const one = (kind: ThingKind, things: readonly Thing[]): Row[] =>
      things.map((thing, i) => ({
        chosen: { kind, id: thing.id },
        icon: kind === 'force' ? 'more' : kind,
        iconPath: kind === 'force' ? iconOf((thing as Force).kind) : undefined,
        name: thing.name,
        on: 'on' in thing ? thing.on : null,
        path: `/${kind}s/${i}`,
      }));
    const plate = shot.plate;
    const under: Row[] = plate
      ? [{ chosen: { kind: 'plate' }, icon: 'plate', name: plate.name, on: plate.on, path: '/plate' }]
      : [];
    return [
      { title: '', rows: [...under, ...one('emitter', shot.emitters)] },
      { title: 'World', rows: one('force', shot.forces) },
      { title: 'Zones and markers', rows: [...one('zone', shot.zones), ...one('marker', shot.markers)] },
      { title: 'Lights and mattes', rows: [...one('light', shot.lights), ...one('matte', shot.mattes)] },
      { title: 'Groups', rows: one('group', shot.groups) },
      { title: 'Sounds', rows: one('sound', shot.sounds) },
      { title: 'Controls', rows: one('control', shot.controls) },
      { title: 'Takes', rows: one('take', shot.takes) },
    ].filter((group) => group.rows.length > 0);
  });
  interface New {
    kind: string;
    name: string;
    icon?: IconName;
    iconPath?: string;
  }
  const plain: New[] = (
    [
      ['emitter', 'Emitter'],
      ['marker', 'Marker'],
      ['zone', 'Zone'],
      ['light', 'Light'],
      ['matte', 'Matte'],
      ['group', 'Group'],
      ['control', 'Control'],
    ] as const
  ).map(([kind, name]) => ({ kind, name, icon: kind }));
  /** Forces as the registry has them, by their groups in the menu. */
  const kinds = $derived.by<{ title: string; of: New[] }[]>(() => {
    const menus = [...new Set(specs.forces.map((one) => one.menu))];
    const group = (menu: string): New[] =>
      specs.forces
        .filter((one) => one.menu === menu)
        .map(({ kind, title, icon }) => ({ kind, name: title, iconPath: icon }));
    return [{ title: 'Cast', of: plain }, ...menus.map((menu) => ({ title: menu, of: group(menu) }))];
  });

  let sounds = $state<FileButton>();
  let midi = $state<FileButton>();
  async function takeMidi(file: File): Promise<void> {
    const url = `/api/shots/${desk.id}/midi?name=${encodeURIComponent(file.name)}`;
    const found = await upload<{ taken: string[] }>('POST', url, file);
    await desk.reload();
    notices.say(`Imported from ${file.name}: ${found.taken.join('; ')}.`);
  }
  function addSound(media: string): Promise<void> {
    const path = { shot_id: desk.id };
    return desk.act(
      () => got(api.POST('/api/shots/{shot_id}/sounds', { params: { path }, body: { media } })),
      true,
    );
  }
  async function takeSound(file: File): Promise<void> {
    const url = `/api/projects/${desk.state?.project_id ?? 0}/sounds?name=${encodeURIComponent(file.name)}`;
    await addSound((await upload<Media>('PUT', url, file)).media);
  }

  function idOf(chosen: Selection): string {
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
        collisionPadding={8}
        class="z-60 max-h-(--bits-dropdown-menu-content-available-height) w-[520px] overflow-y-auto rounded-lg border border-line-strong bg-raised p-1.5 shadow-xl"
      >
        <DropdownMenu.Item class={item} onSelect={onlibrary}
          ><Icon name="library" /> From the library …</DropdownMenu.Item
        >
        <div class="mt-1 columns-3 gap-2 border-t border-line pt-1">
          {#each kinds as group (group.title)}
            <div class="break-inside-avoid pb-1.5">
              <div class="px-2 pt-1 pb-0.5 text-[11px] text-soft">{group.title}</div>
              {#each group.of as one (one.kind)}
                <DropdownMenu.Item class={item} onSelect={() => desk.add(one.kind)}
                  ><Icon name={one.icon} path={one.iconPath} /> {one.name}</DropdownMenu.Item
                >
              {/each}
            </div>
          {/each}
        </div>
        <div class="mb-1 border-t border-line"></div>
        <DropdownMenu.Item class={item} onSelect={onplate}><Icon name="plate" /> Plate …</DropdownMenu.Item>
        <DropdownMenu.Item class={item} onSelect={() => sounds?.choose()}
          ><Icon name="sound" /> Sound …</DropdownMenu.Item
        >
        <DropdownMenu.Item class={item} onSelect={() => midi?.choose()}
          ><Icon name="control" /> Controls from MIDI …</DropdownMenu.Item
        >
        {#if shot.plate}
          <DropdownMenu.Item class={item} onSelect={() => void addSound('')}
            ><Icon name="sound" /> Sound of the plate</DropdownMenu.Item
          >
        {/if}
      </DropdownMenu.Content>
    </DropdownMenu.Portal>
  </DropdownMenu.Root>
</div>

<FileButton bind:this={midi} label="MIDI file" accept=".mid,.midi" ontake={takeMidi} />
<FileButton bind:this={sounds} label="Sound file" accept={SOUNDS} ontake={takeSound} />
<ul class="px-2 pb-2">
  {#each rows as group (group.title)}
    {#if group.title}<li class="px-2.5 pt-2 pb-0.5 text-[11px] text-soft">{group.title}</li>{/if}
    {#each group.rows as row (idOf(row.chosen))}
      {@const id = idOf(row.chosen)}
      {@const here = idOf(desk.selection) === id}
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
            class:opacity-45={row.on === false}
            aria-current={here}
            onclick={() => (desk.selection = row.chosen)}
            ondblclick={() => (renaming = id)}
          >
            <span class="text-soft"><Icon name={row.icon} path={row.iconPath} size={15} /></span>
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
                class="z-60 w-48 rounded-lg border border-line-strong bg-raised p-1 shadow-xl"
              >
                <DropdownMenu.Item class={item} onSelect={() => (renaming = id)}>Rename</DropdownMenu.Item>
                {#if 'id' in row.chosen}
                  {@const chosen = row.chosen}
                  <DropdownMenu.Item class={item} onSelect={() => desk.add(chosen.kind, id)}
                    >Copy</DropdownMenu.Item
                  >
                  {#if chosen.kind === 'emitter'}
                    <DropdownMenu.Item
                      class={item}
                      onSelect={() => desk.add('emitter', id, { with_ties: true })}
                      >Copy with its forces</DropdownMenu.Item
                    >
                  {/if}
                  {#if !['group', 'sound', 'control'].includes(chosen.kind)}
                    {#each [['across', 'Mirror left and right'], ['up', 'Mirror up and down']] as const as [axis, word] (axis)}
                      <DropdownMenu.Item
                        class={item}
                        onSelect={() =>
                          desk.add(chosen.kind, id, {
                            mirror: axis,
                            with_ties: chosen.kind === 'emitter',
                          })}>{word}</DropdownMenu.Item
                      >
                    {/each}
                  {/if}
                  {#if chosen.kind === 'force'}
                    <DropdownMenu.Item class={item} onSelect={() => desk.alone(id)}
                      >{desk.tools.solo ? 'End solo' : 'Solo'}</DropdownMenu.Item
                    >
                  {/if}
                  {#if chosen.kind === 'emitter'}
                    <DropdownMenu.Item class={item} onSelect={() => desk.alone(id)}
                      >{desk.tools.solo ? 'End solo' : 'Solo'}</DropdownMenu.Item
                    >
                    {#if shot.emitters[0]?.id !== id}
                      <DropdownMenu.Item class={item} onSelect={() => move(row, -1)}
                        >Send backward</DropdownMenu.Item
                      >
                    {/if}
                    {#if shot.emitters[shot.emitters.length - 1]?.id !== id}
                      <DropdownMenu.Item class={item} onSelect={() => move(row, 1)}
                        >Bring forward</DropdownMenu.Item
                      >
                    {/if}
                  {/if}
                  <DropdownMenu.Item class={item} onSelect={() => desk.remove(id)}>Remove</DropdownMenu.Item>
                {:else}
                  <DropdownMenu.Item class={item} onSelect={onplate}>Replace plate …</DropdownMenu.Item>
                  <DropdownMenu.Item
                    class={item}
                    onSelect={() => desk.set('/plate', null, 'Remove the plate')}>Remove</DropdownMenu.Item
                  >
                {/if}
              </DropdownMenu.Content>
            </DropdownMenu.Portal>
          </DropdownMenu.Root>
          {#if row.on !== null}
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
        {/if}
      </li>
    {/each}
  {/each}
</ul>
{#if !shot.plate}
  <button class="mx-3 mb-2 flex items-center gap-2 text-soft hover:text-word" onclick={onplate}
    ><Icon name="plate" size={15} /> Add plate …</button
  >
{/if}
