<script lang="ts">
  import { api, got, upload, type Body, type Media } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import { specs } from '../state/specs.svelte';
  import Choice from '../ui/Choice.svelte';
  import FileButton from '../ui/FileButton.svelte';
  import FileRow from '../ui/FileRow.svelte';
  import Fields from '../ui/Fields.svelte';
  import ModelFile from './ModelFile.svelte';
  import SkyFile from './SkyFile.svelte';

  let { desk, body, path }: { desk: Desk; body: Body; path: string } = $props();
  const without = ['kind', 'weight', 'media', 'digest', 'sky', 'font', 'tinted', 'paths', 'name'];
  let fonts = $state.raw<Media[]>([]);
  const project = $derived(desk.state?.project_id ?? 0);

  async function listFonts(): Promise<void> {
    try {
      fonts = (
        await got(api.GET('/api/projects/{project_id}/media', { params: { path: { project_id: project } } }))
      ).filter((m) => m.kind === 'font');
    } catch (error) {
      notices.trouble(error);
    }
  }
  $effect(() => {
    if (body.kind === 'words' && project) void listFonts();
  });

  async function takeFont(file: File): Promise<void> {
    const url = `/api/projects/${project}/fonts?name=${encodeURIComponent(file.name)}`;
    const font = await upload<Media>('PUT', url, file);
    await listFonts();
    desk.set(`${path}/font`, font.media, 'Font');
  }

  async function takeArtwork(file: File): Promise<void> {
    // /emitters/0/body, or /emitters/0/mixed/1.
    const [, , emitter, , mixed] = path.split('/');
    const id = desk.shot?.emitters[Number(emitter)]?.id;
    const number = mixed === undefined ? 0 : Number(mixed) + 1;
    await upload(
      'POST',
      `/api/shots/${desk.id}/artwork/${id}?body=${number}&name=${encodeURIComponent(file.name)}`,
      file,
    );
    await desk.reload();
  }
</script>

{#if body.kind === 'picture'}
  <FileRow
    {desk}
    label="File"
    media={body.media}
    at="{path}/media"
    title="A picture for the body"
    edit="Picture of the body"
  />
{/if}
<Fields
  {desk}
  model={specs.bodies.find((one) => one.kind === body.kind)?.model ?? ''}
  owner={body}
  {path}
  {without}
/>
{#if body.kind === 'model'}<SkyFile {desk} owner={body} {path} />{/if}
{#if body.kind === 'artwork'}
  <FileButton
    text={body.name ? `${body.name} …` : 'Select an SVG file …'}
    label="SVG artwork of the body"
    accept=".svg,image/svg+xml"
    look="button mt-1.5 h-6! px-2! text-[11.5px]"
    ontake={takeArtwork}
  />
{:else if body.kind === 'picture'}
  <Fields {desk} model="PictureBody" owner={body} {path} only={['tinted']} />
{:else if body.kind === 'model' && body.form === 'file'}
  <ModelFile {desk} owner={body} {path} />
{:else if body.kind === 'words'}
  <Choice
    label="Font"
    value={body.font ?? ''}
    items={[
      { value: '', label: 'Schibsted Grotesk' },
      ...fonts.map((f) => ({ value: f.media, label: f.name.replace(/\.[^.]+$/, '') })),
    ]}
    onset={(v) => desk.set(`${path}/font`, v, 'Font')}
  />
  <FileButton
    text="Import a font …"
    label="Font file"
    accept=".ttf,.otf,.ttc,.woff2"
    look="button mt-1.5 h-6! px-2! text-[11.5px]"
    ontake={takeFont}
  />
{/if}
