<script lang="ts">
  import type { ComingShot, ProjectCard, ShotCard } from '../api/client';
  import Icon from '../ui/Icon.svelte';
  import ComingTile from './ComingTile.svelte';
  import ShotTile from './ShotTile.svelte';

  interface Props {
    project: ProjectCard;
    folded: boolean;
    small: boolean;
    /** Shots of the demonstration that are still being made. */
    coming: readonly ComingShot[];
    onfold: (yes: boolean) => void;
    onnew: () => void;
    onrename: (name: string) => void;
    ondelete: () => void;
    onshot: (files: FileList | null) => void;
    oncuts: (files: FileList | null) => void;
    oncopyshot: (shot: ShotCard) => void;
    ondeleteshot: (shot: ShotCard) => void;
  }
  /** A project with its shots, or folded. */
  let {
    project,
    folded,
    small,
    coming,
    onfold,
    onnew,
    onrename,
    ondelete,
    onshot,
    oncuts,
    oncopyshot,
    ondeleteshot,
  }: Props = $props();
</script>

{#snippet taking(text: string, accept: string, title: string, take: (files: FileList | null) => void)}
  <label class="cursor-pointer pl-2 text-soft hover:text-word" {title}>
    {text}
    <input
      type="file"
      class="sr-only"
      {accept}
      onchange={(e) => {
        take(e.currentTarget.files);
        e.currentTarget.value = '';
      }}
    />
  </label>
{/snippet}

<section class="mb-7" aria-label={project.name}>
  <div class="group mb-2.5 flex items-center gap-2">
    <button
      class="quiet px-0!"
      aria-expanded={!folded}
      aria-label="Shots of {project.name}"
      title={folded ? 'Show its shots' : 'Fold'}
      onclick={() => onfold(!folded)}
      ><span class:rotate-90={!folded}><Icon name="chevron" size={14} /></span></button
    >
    <input
      class="min-w-0 rounded bg-transparent px-1 text-[16px] font-semibold hover:bg-raised"
      aria-label="Name of the project"
      value={project.name}
      size={Math.max(8, project.name.length - 2)}
      onchange={(e) => {
        const to = e.currentTarget.value.trim();
        if (to) onrename(to);
      }}
    />
    <span class="text-soft">{project.shots.length} {project.shots.length === 1 ? 'shot' : 'shots'}</span>
    <span class="flex-1"></span>
    <button class="flex items-center gap-1 pl-2 text-soft hover:text-word" onclick={() => onnew()}
      ><Icon name="plus" size={13} /> New shot</button
    >
    {@render taking('Import a shot', '.json', '', (files) => onshot(files))}
    {@render taking(
      'Import a cut list',
      '.otio,.json',
      'OpenTimelineIO: a shot for each clip, with its media, length, rate and timecode',
      (files) => oncuts(files),
    )}
    <a class="pl-2 text-soft hover:text-word" href="/api/projects/{project.id}/export" download>Export</a>
    <a
      class="px-2 text-soft hover:text-word"
      href="/api/projects/{project.id}/timeline"
      title="OpenTimelineIO: the shots one after another, with their plates"
      download>Cut list</a
    >
    <button
      class="quiet"
      aria-label="Delete {project.name}"
      title="Delete the project"
      onclick={() => ondelete()}><Icon name="trash" size={15} /></button
    >
  </div>
  {#if !folded}
    <div class="tiles" class:small>
      {#each project.shots as shot (shot.id)}
        <ShotTile {shot} {small} oncopy={() => oncopyshot(shot)} ondelete={() => ondeleteshot(shot)} />
      {:else}
        <p class="px-1 text-soft">No shot yet.</p>
      {/each}
      {#each coming as shot (shot.name)}
        <ComingTile {shot} />
      {/each}
    </div>
  {/if}
</section>
