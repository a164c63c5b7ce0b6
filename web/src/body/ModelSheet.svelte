<script lang="ts">
  import { api, got, upload } from '../api/client';
  import type { components } from '../api/types';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import DropTile from '../ui/DropTile.svelte';
  import Sheet from '../ui/Sheet.svelte';

  type Model = components['schemas']['ProjectModel'];

  let { desk, open = $bindable() }: { desk: Desk; open: boolean } = $props();
  let models = $state<Model[]>([]);
  let busy = $state('');
  let share = $state(0);
  const project = $derived(desk.state?.project_id ?? 0);

  $effect(() => {
    if (open) void load();
  });

  async function load(): Promise<void> {
    try {
      models = await got(
        api.GET('/api/projects/{project_id}/models', { params: { path: { project_id: project } } }),
      );
    } catch (error) {
      notices.trouble(error);
    }
  }

  function use(model: { media: string; digest: string; name: string }): void {
    desk.tools.choosingModel?.(model);
    open = false;
  }

  async function take(files: FileList | null): Promise<void> {
    const file = files?.[0];
    if (!file) return;
    try {
      busy = file.name;
      const url = `/api/projects/${project}/models?name=${encodeURIComponent(file.name)}`;
      use(await upload<components['schemas']['ModelTaken']>('PUT', url, file, (s) => (share = s)));
    } catch (error) {
      notices.trouble(error);
    }
    busy = '';
    share = 0;
  }

  function picture({ media, digest }: Model): string {
    const body = { kind: 'model', form: 'file', media, digest, material: 'plastic', surroundings: 'studio' };
    return `/api/bodies/picture?side=160&body=${encodeURIComponent(JSON.stringify(body))}`;
  }

  function facts(model: Model): string {
    const longest = `${Number(model.longest.toPrecision(3)).toLocaleString('en')} units long`;
    return [`${model.faces.toLocaleString('en')} faces`, longest, model.closed ? 'closed' : 'open'].join(
      ' · ',
    );
  }
</script>

<Sheet
  bind:open
  title="Model"
  about="Geometry from another program: OBJ, glTF, PLY, STL or OpenUSD. It is fitted to the size that is set; an open model has no inside."
  size="wide"
>
  <div class="grid grid-cols-4 gap-3">
    {#each models as model (model.media)}
      <button
        class="flex flex-col overflow-hidden rounded-lg border border-line-strong text-left hover:border-soft"
        onclick={() => use(model)}
      >
        <img class="aspect-[4/3] w-full bg-well object-cover" src={picture(model)} alt="" loading="lazy" />
        <span class="block truncate px-2 pt-1 font-semibold">{model.name}</span>
        <span class="block px-2 pb-1.5 text-[11px] text-soft">{facts(model)}</span>
      </button>
    {/each}
    <DropTile
      class="min-h-40"
      label="Import a model"
      accept=".obj,.glb,.gltf,.ply,.stl,.usd,.usda,.usdc,.usdz"
      busy={busy && `Reading ${busy}`}
      {share}
      ontake={(files) => void take(files)}
    >
      <span class="text-word">Import a model</span>, or drop it here.
    </DropTile>
  </div>
</Sheet>
