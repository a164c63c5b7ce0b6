<script lang="ts">
  import { got, api, upload, type Folder, type Found, type Media } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import DropTile from '../ui/DropTile.svelte';
  import Icon from '../ui/Icon.svelte';
  import { framesPerSecond } from '../ui/rates';
  import Sheet from '../ui/Sheet.svelte';

  let { desk, open = $bindable() }: { desk: Desk; open: boolean } = $props();
  let library = $state<Media[]>([]);
  let folders = $state<Folder[]>([]);
  let found = $state<Record<number, Found[]>>({});
  let busy = $state('');
  let share = $state(0);
  let path = $state('');
  const project = $derived(desk.state?.project_id ?? 0);

  $effect(() => {
    if (open) void load();
  });

  async function load(): Promise<void> {
    try {
      const [media, named] = await Promise.all([
        got(api.GET('/api/projects/{project_id}/media', { params: { path: { project_id: project } } })),
        got(api.GET('/api/folders')),
      ]);
      library = media.filter((m) => ['movie', 'sequence', 'still'].includes(m.kind));
      folders = named;
    } catch (error) {
      notices.trouble(error);
    }
  }

  function use(media: Media): void {
    if (desk.tools.choosing) {
      desk.tools.choosing.take(media.media);
      open = false;
      return;
    }
    const old = desk.shot!.plate;
    const plate = {
      ...(old ?? {}),
      name: media.name.replace(/\.[^.]+$/, '').slice(0, 120),
      media: media.media,
      on: true,
      encoding: 'auto',
    };
    desk.change([{ op: old ? 'replace' : 'add', path: '/plate', value: plate }], 'Plate');
    desk.selection = { kind: 'plate' };
    open = false;
  }

  async function take(files: FileList | null): Promise<void> {
    const list = [...(files ?? [])];
    if (list.length === 0) return;
    const base = `/api/projects/${project}/media`;
    try {
      if (list.length === 1) {
        busy = list[0]!.name;
        await upload('PUT', `${base}?name=${encodeURIComponent(busy)}`, list[0]!, (s) => (share = s));
      } else {
        const batch = Math.random().toString(36).slice(2, 12).padEnd(10, '0');
        for (const [i, file] of list.entries()) {
          busy = `${file.name} (${i + 1} of ${list.length})`;
          await upload('PUT', `${base}?name=${encodeURIComponent(file.name)}&batch=${batch}`, file);
          share = (i + 1) / list.length;
        }
        await got(
          api.POST('/api/projects/{project_id}/media/batch/{batch}', {
            params: { path: { project_id: project, batch } },
          }),
        );
      }
      await load();
    } catch (error) {
      notices.trouble(error);
    }
    busy = '';
    share = 0;
  }

  async function nameFolder(): Promise<void> {
    try {
      const folder = await got(api.POST('/api/folders', { body: { path: path.trim() } }));
      path = '';
      await load();
      await list(folder);
    } catch (error) {
      notices.trouble(error);
    }
  }

  async function list(folder: Folder): Promise<void> {
    try {
      found[folder.id!] = await got(
        api.GET('/api/folders/{folder_id}/files', { params: { path: { folder_id: folder.id! } } }),
      );
    } catch (error) {
      notices.trouble(error);
    }
  }

  async function fromFolder(file: Found): Promise<void> {
    try {
      use(
        await got(
          api.POST('/api/projects/{project_id}/media/from-folder', {
            params: { path: { project_id: project } },
            body: { path: file.path },
          }),
        ),
      );
    } catch (error) {
      notices.trouble(error);
    }
  }

  function facts(media: Media): string {
    const length = media.kind === 'still' ? 'still' : `${media.frames} frames`;
    return [
      `${media.width} × ${media.height}`,
      length,
      media.rate ? `${Number(framesPerSecond(media.rate).toFixed(3))} fps` : '',
      media.encoding,
    ]
      .filter(Boolean)
      .join(' · ');
  }
</script>

<Sheet
  bind:open
  title={desk.tools.choosing?.title ?? 'Plate'}
  about={desk.tools.choosing
    ? 'A movie, a numbered sequence or a still, with alpha if it has any.'
    : 'Background of the particles: a movie, a numbered sequence or a still.'}
  size="wide"
>
  <div class="grid grid-cols-3 gap-3">
    {#each library as media (media.id)}
      <button
        class="overflow-hidden rounded-lg border text-left hover:border-soft {desk.shot?.plate?.media ===
        media.media
          ? 'border-aurora'
          : 'border-line-strong'}"
        onclick={() => use(media)}
      >
        <img
          class="aspect-video w-full bg-well object-cover"
          src="/api/media/{media.id}/thumb"
          alt=""
          loading="lazy"
        />
        <span class="block truncate px-2 pt-1 font-semibold">{media.name}</span>
        <span class="block truncate px-2 pb-1.5 text-[11px] text-soft">{facts(media)}</span>
      </button>
    {/each}
    <DropTile
      class="min-h-28"
      label="Import a plate"
      accept=".mp4,.mov,.m4v,.mkv,.webm,.avi,.mxf,.png,.jpg,.jpeg,.tif,.tiff,.exr,.dpx"
      busy={busy && `Taking in ${busy}`}
      {share}
      multiple
      ontake={(files) => void take(files)}
    >
      <span class="text-word">Import a file</span>, or drop it here.<br />Several pictures make a sequence.
    </DropTile>
  </div>
  <h3 class="mt-5 mb-1.5 font-semibold text-soft">Folders on this machine</h3>
  {#each folders as folder (folder.id)}
    <div class="mb-1">
      <button class="flex items-center gap-2 py-1 hover:text-aurora" onclick={() => list(folder)}
        ><Icon name="folder" size={15} /> <span class="break-all">{folder.path}</span></button
      >
      {#if found[folder.id!]}
        <ul class="ml-6 max-h-40 overflow-y-auto">
          {#each found[folder.id!] ?? [] as file (file.path)}
            <li>
              <button
                class="flex w-full justify-between rounded px-2 py-1 text-left hover:bg-raised"
                onclick={() => fromFolder(file)}
                ><span>{file.name}</span><span class="text-soft">{file.kind}</span></button
              >
            </li>
          {:else}
            <li class="px-2 text-soft">No movies or pictures in this folder.</li>
          {/each}
        </ul>
      {/if}
    </div>
  {/each}
  <form
    class="mt-1 flex gap-2"
    onsubmit={(e) => {
      e.preventDefault();
      void nameFolder();
    }}
  >
    <input
      class="field flex-1"
      placeholder="/footage/skarvoy"
      aria-label="Path of a folder"
      bind:value={path}
      required
    />
    <button class="button">Add a folder</button>
  </form>
</Sheet>
