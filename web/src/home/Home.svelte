<script lang="ts">
  import { onMount } from 'svelte';
  import {
    got,
    api,
    upload,
    type DeliveryCard,
    type Preparing,
    type ProjectCard,
    type ShotCard,
  } from '../api/client';
  import Queue from '../deliver/Queue.svelte';
  import { notices } from '../state/notices.svelte';
  import { place } from '../state/place.svelte';
  import { theme } from '../state/theme.svelte';
  import Bear from '../ui/Bear.svelte';
  import Icon from '../ui/Icon.svelte';
  import Sheet from '../ui/Sheet.svelte';
  import NewShot from './NewShot.svelte';
  import ComingTile from './ComingTile.svelte';
  import ShotTile from './ShotTile.svelte';

  let projects = $state<ProjectCard[]>([]);
  let ready = $state(false);
  let queue = $state<DeliveryCard[]>([]);
  let queueOpen = $state(false);
  let making = $state<number | null>(null);
  let name = $state('');
  let damage = $state('');
  let preparing = $state<Preparing | null>(null);

  onMount(() => {
    document.title = 'Projects – Isbjorn';
    got(api.GET('/api/health')).then(
      (health) => (damage = health.damage),
      () => undefined,
    );
    void load();
    void watch();
    void prepare();
    const timer = setInterval(() => {
      void watch();
      if (!preparing?.ready) void prepare();
    }, 1000);
    return () => clearInterval(timer);
  });

  const running = $derived(queue.filter((q) => q.state === 'working' || q.state === 'waiting').length);

  let asked = 0;

  /** Of two answers, the one that was asked for last counts, whichever comes last. */
  async function load(): Promise<void> {
    const mine = ++asked;
    try {
      const found = await got(api.GET('/api/projects'));
      if (mine === asked) projects = found;
    } catch (error) {
      notices.trouble(error);
    }
    ready = true;
  }

  async function watch(): Promise<void> {
    try {
      queue = await got(api.GET('/api/deliveries'));
    } catch {
      /* said when something is asked of it */
    }
  }

  /** What is still made ready after the first start; a shot that has come is shown. */
  async function prepare(): Promise<void> {
    try {
      const before = preparing?.shots.length;
      preparing = await got(api.GET('/api/preparation'));
      if (before !== undefined && before !== preparing.shots.length) await load();
    } catch {
      /* asked again in a second */
    }
  }

  async function attempt(work: () => Promise<unknown>): Promise<void> {
    try {
      await work();
    } catch (error) {
      notices.trouble(error);
    }
    await load();
  }

  function removeShot(shot: ShotCard): void {
    void attempt(async () => {
      await got(api.DELETE('/api/shots/{shot_id}', { params: { path: { shot_id: shot.id } } }));
      notices.say(`${shot.name} was deleted.`, {
        label: 'Undo',
        act: () =>
          void attempt(() =>
            got(api.POST('/api/shots/{shot_id}/restore', { params: { path: { shot_id: shot.id } } })),
          ),
      });
    });
  }

  function removeProject(project: ProjectCard): void {
    void attempt(async () => {
      await got(api.DELETE('/api/projects/{project_id}', { params: { path: { project_id: project.id } } }));
      notices.say(`${project.name} was deleted.`, {
        label: 'Undo',
        act: () =>
          void attempt(() =>
            got(
              api.POST('/api/projects/{project_id}/restore', {
                params: { path: { project_id: project.id } },
              }),
            ),
          ),
      });
    });
  }

  function takeShot(project: ProjectCard, files: FileList | null): void {
    const file = files?.[0];
    if (file) void attempt(() => upload('POST', `/api/projects/${project.id}/shots/import`, file));
  }

  function takeCuts(project: ProjectCard, files: FileList | null): void {
    const file = files?.[0];
    if (!file) return;
    void attempt(async () => {
      const cut = await upload<{ notes: string[] }>(
        'POST',
        `/api/projects/${project.id}/timeline?name=${encodeURIComponent(file.name)}`,
        file,
      );
      for (const note of cut.notes.slice(0, 5)) notices.say(note);
    });
  }
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

<div class="h-full overflow-y-auto">
  <header class="mx-auto flex max-w-[1120px] flex-wrap items-center gap-3 px-6 pt-7 pb-5">
    <span class="text-aurora"><Bear size={42} /></span>
    <h1 class="text-[22px] font-semibold tracking-tight">Isbjorn</h1>
    <span class="flex-1"></span>
    <button class="button" onclick={() => (queueOpen = true)}
      >Deliveries{running ? ` · ${running} running` : ''}</button
    >
    <form
      class="flex gap-2"
      onsubmit={(e) => {
        e.preventDefault();
        const title = name.trim();
        name = '';
        if (title) void attempt(() => got(api.POST('/api/projects', { body: { name: title } })));
      }}
    >
      <input
        class="field w-52"
        placeholder="Name of a new project"
        aria-label="Name of a new project"
        bind:value={name}
        required
      />
      <button class="button">New project</button>
    </form>
    <label class="button cursor-pointer">
      Import a project
      <input
        type="file"
        class="sr-only"
        accept=".zip"
        onchange={(e) => {
          const file = e.currentTarget.files?.[0];
          if (file) void attempt(() => upload('POST', '/api/projects/import', file));
          e.currentTarget.value = '';
        }}
      />
    </label>
    <button
      class="quiet"
      aria-label="Change the theme"
      title="Change the theme"
      onclick={() => theme.toggle()}><Icon name={theme.name === 'polar-night' ? 'sun' : 'moon'} /></button
    >
  </header>
  <main class="mx-auto max-w-[1120px] px-6 pb-12">
    {#if damage}<p class="mb-5 rounded-lg border border-red px-3 py-2 text-red" role="alert">
        ⚠ {damage}
      </p>{/if}
    {#if preparing && !preparing.ready}
      <div
        class="mb-5 flex flex-wrap items-center gap-x-4 gap-y-1 rounded-lg border border-line-strong px-3 py-2 text-soft"
        role="status"
      >
        <span class="font-semibold text-word">First start</span>
        {#if preparing.engine < 1}
          <progress class="h-1.5 w-40" value={preparing.engine} max="1" aria-label="Engine compiled"
          ></progress>
          <span>Compiling the engine: {Math.round(preparing.engine * 100)} %</span>
        {/if}
        {#if preparing.shots.length}
          <span
            >{preparing.shots.length}
            {preparing.shots.length === 1 ? 'shot' : 'shots'} of the demonstration to come</span
          >
        {/if}
        <span>You can work meanwhile; new kinds of pictures take a little longer.</span>
      </div>
    {:else if preparing?.problem}
      <p class="mb-5 rounded-lg border border-amber px-3 py-2 text-amber" role="alert">{preparing.problem}</p>
    {/if}
    {#each projects as project (project.id)}
      <section class="mb-9" aria-label={project.name}>
        <div class="group mb-2.5 flex items-center gap-2">
          <input
            class="min-w-0 rounded bg-transparent px-1 text-[16px] font-semibold hover:bg-raised"
            aria-label="Name of the project"
            value={project.name}
            size={Math.max(8, project.name.length - 2)}
            onchange={(e) => {
              const to = e.currentTarget.value.trim();
              if (to)
                void attempt(() =>
                  got(
                    api.PATCH('/api/projects/{project_id}', {
                      params: { path: { project_id: project.id } },
                      body: { name: to },
                    }),
                  ),
                );
            }}
          />
          <span class="text-soft">{project.shots.length} {project.shots.length === 1 ? 'shot' : 'shots'}</span
          >
          <span class="flex-1"></span>
          {@render taking('Import a shot', '.json', '', (files) => takeShot(project, files))}
          {@render taking(
            'Import a cut list',
            '.otio,.json',
            'OpenTimelineIO: a shot for each clip, with its media, length, rate and timecode',
            (files) => takeCuts(project, files),
          )}
          <a class="pl-2 text-soft hover:text-word" href="/api/projects/{project.id}/export" download
            >Export</a
          >
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
            onclick={() => removeProject(project)}><Icon name="trash" size={15} /></button
          >
        </div>
        <div class="grid grid-cols-[repeat(auto-fill,minmax(330px,1fr))] gap-4">
          <button
            class="grid aspect-video place-items-center rounded-xl border border-dashed border-line-strong text-soft hover:border-aurora hover:text-aurora"
            onclick={() => (making = project.id)}
            ><span class="flex items-center gap-2"><Icon name="plus" /> New shot</span></button
          >
          {#each project.shots as shot (shot.id)}
            <ShotTile
              {shot}
              oncopy={() =>
                attempt(() =>
                  got(api.POST('/api/shots/{shot_id}/copy', { params: { path: { shot_id: shot.id } } })),
                )}
              ondelete={() => removeShot(shot)}
            />
          {/each}
          {#if preparing && project.name === preparing.project}
            {#each preparing.shots as shot (shot.name)}
              <ComingTile {shot} />
            {/each}
          {/if}
        </div>
      </section>
    {/each}
    {#if ready}
      {#if projects.reduce((sum, p) => sum + p.shots.length, 0) < 3}
        <p class="mt-6 max-w-xl leading-relaxed text-soft">
          A project holds shots and the footage under them; a new shot starts with one emitter that is already
          at work. Open a shot, change any number on any frame, and see that frame. Every change is kept as
          you make it, and undo takes any of it back.
        </p>
      {/if}
    {/if}
  </main>
</div>

<NewShot project={making} onclose={() => (making = null)} onmade={(shot) => place.go(`/shots/${shot.id}`)} />
<Sheet
  bind:open={queueOpen}
  title="Deliveries"
  about={queue.length ? '' : 'Nothing was delivered yet. Open a shot and press Deliver.'}
  size="wide"
>
  <Queue {queue} onchange={watch} />
</Sheet>
