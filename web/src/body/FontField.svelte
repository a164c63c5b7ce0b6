<script lang="ts">
  import { onMount } from 'svelte';
  import { api, got, upload, type Media } from '../api/client';
  import { notices } from '../state/notices.svelte';
  import Choice from '../fields/Choice.svelte';
  import FileButton from '../fields/FileButton.svelte';
  import type { ControlProps } from '../fields/controls';

  let { desk, field, owner, path }: ControlProps = $props();
  const at = $derived(`${path}/${field.name}`);
  let fonts = $state.raw<Media[]>([]);
  const project = $derived(desk.state?.project_id ?? 0);

  async function list(): Promise<void> {
    try {
      fonts = (
        await got(api.GET('/api/projects/{project_id}/media', { params: { path: { project_id: project } } }))
      ).filter((m) => m.kind === 'font');
    } catch (error) {
      notices.trouble(error);
    }
  }
  onMount(() => void list());

  async function take(file: File): Promise<void> {
    const url = `/api/projects/${project}/fonts?name=${encodeURIComponent(file.name)}`;
    const font = await upload<Media>('PUT', url, file);
    await list();
    desk.set(at, font.media, field.label);
  }
</script>

<Choice
  label={field.label}
  value={String((owner as Record<string, unknown>)[field.name] ?? '')}
  items={[
    { value: '', label: 'Schibsted Grotesk' },
    ...fonts.map((f) => ({ value: f.media, label: f.name.replace(/\.[^.]+$/, '') })),
  ]}
  hint={field.help}
  onset={(v) => desk.set(at, v, field.label)}
/>
<FileButton
  text="Import a font …"
  label="Font file"
  accept=".ttf,.otf,.ttc,.woff2"
  look="button mt-1.5 h-6! px-2! text-[11.5px]"
  ontake={take}
/>
