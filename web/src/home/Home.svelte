<script lang="ts">
  import { onMount } from 'svelte';
  import {
    got,
    api,
    upload,
    type DeliveryCard,
    type Media,
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
  import Arrange from './Arrange.svelte';
  import { arranged, droppedAs, recent } from './arrangement';
  import { HomeSettings } from './home_settings.svelte';
  import NewShot from './NewShot.svelte';
  import ProjectSection from './ProjectSection.svelte';
  import ShotTile from './ShotTile.svelte';

  let projects = $state<ProjectCard[]>([]);
  let ready = $state(false);
  let queue = $state<DeliveryCard[]>([]);
  let queueOpen = $state(false);
  let making = $state<number | null>(null);
  let naming = $state(false);
  let name = $state('');
  let query = $state('');
  let dropping = $state(false);
  const settings = new HomeSettings(localStorage);
  const shown = $derived(arranged(projects, query, settings.sort));
  /** Where what is dropped, or begun without a project, goes: the project that was opened last. */
  const front = $derived(arranged(projects, '', 'opened')[0] ?? null);
  const many = $derived(projects.reduce((sum, one) => sum + one.shots.length, 0));
  const recentShots = $derived(many > 6 && !query ? recent(projects, settings.small ? 5 : 3) : []);
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

  function copyShot(shot: ShotCard): Promise<void> {
    return attempt(() =>
      got(api.POST('/api/shots/{shot_id}/copy', { params: { path: { shot_id: shot.id } } })),
    );
  }

  function makeProject(event: SubmitEvent): void {
    event.preventDefault();
    const title = name.trim();
    if (!title) return;
    name = '';
    naming = false;
    void attempt(() => got(api.POST('/api/projects', { body: { name: title } })));
  }

  /** A file that is dropped anywhere: a project, a shot, a cut list, or a plate. */
  function dropped(event: DragEvent): void {
    event.preventDefault();
    dropping = false;
    const files = event.dataTransfer?.files ?? null;
    const file = files?.[0];
    if (!file) return;
    const as = droppedAs(file.name);
    if (as === 'project') void attempt(() => upload('POST', '/api/projects/import', file));
    else if (!front) notices.say('Make a project first; then drop shots and plates on it.');
    else if (as === 'shot') takeShot(front, files);
    else if (as === 'cuts') takeCuts(front, files);
    else
      void attempt(async () => {
        const url = `/api/projects/${front.id}/media?name=${encodeURIComponent(file.name)}`;
        const plate = await upload<Media>('PUT', url, file);
        notices.say(`${plate.name} is among the plates of ${front.name}.`);
      });
  }

  function renameProject(project: ProjectCard, to: string): void {
    const params = { path: { project_id: project.id } };
    void attempt(() => got(api.PATCH('/api/projects/{project_id}', { params, body: { name: to } })));
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

<div
  class="relative h-full overflow-y-auto"
  role="presentation"
  ondragover={(e) => {
    e.preventDefault();
    dropping = true;
  }}
  ondragleave={(e) => e.currentTarget === e.target && (dropping = false)}
  ondrop={dropped}
>
  {#if dropping}
    <div
      class="pointer-events-none fixed inset-3 z-50 grid place-items-center rounded-2xl border-2 border-dashed border-aurora bg-[#101618d0] text-[16px] text-[#dfe8e8]"
    >
      Drop a project, a shot, a cut list or a plate{front ? `: it goes to ${front.name}` : ''}
    </div>
  {/if}
  <header class="mx-auto flex max-w-[1120px] flex-wrap items-center gap-3 px-6 pt-6 pb-3">
    <span class="text-aurora"><Bear size={42} /></span>
    <h1 class="pr-3 text-[22px] font-semibold tracking-tight">Isbjorn</h1>
    {#if front}
      <button class="button main" onclick={() => (making = front.id)}
        ><Icon name="plus" size={14} /> New shot</button
      >
    {/if}
    <button class="button" class:main={!front && ready} onclick={() => (naming = true)}>New project</button>
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
    <span class="flex-1"></span>
    <button class="button" onclick={() => (queueOpen = true)}
      >Deliveries{running ? ` · ${running} running` : ''}</button
    >
    <button
      class="quiet"
      aria-label="Change the theme"
      title="Change the theme"
      onclick={() => theme.toggle()}><Icon name={theme.name === 'polar-night' ? 'sun' : 'moon'} /></button
    >
  </header>
  {#if many > 0}<Arrange {settings} bind:query />{/if}
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
    {#if recentShots.length}
      <section class="mb-7" aria-label="Recent">
        <h2 class="mb-2.5 px-1 text-[16px] font-semibold">Recent</h2>
        <div class="tiles" class:small={settings.small}>
          {#each recentShots as shot (shot.id)}
            <ShotTile {shot} small={settings.small} />
          {/each}
        </div>
      </section>
    {/if}
    {#if query && shown.length === 0}
      <p class="text-soft" role="status">No shot or project has “{query}” in its name.</p>
    {/if}
    {#each shown as project, place (project.id)}
      <ProjectSection
        {project}
        folded={!query && settings.isFolded(project.id, place)}
        small={settings.small}
        coming={preparing && project.name === preparing.project ? preparing.shots : []}
        onfold={(yes) => settings.fold(project.id, yes)}
        onnew={() => (making = project.id)}
        onrename={(name) => renameProject(project, name)}
        ondelete={() => removeProject(project)}
        onshot={(files) => takeShot(project, files)}
        oncuts={(files) => takeCuts(project, files)}
        oncopyshot={(shot) => copyShot(shot)}
        ondeleteshot={removeShot}
      />
    {/each}
    {#if ready}
      {#if many < 3}
        <p class="mt-6 max-w-xl leading-relaxed text-soft">
          A project holds shots and the footage under them; a new shot starts with one emitter that is already
          at work. Open a shot, change any number on any frame, and see that frame. Every change is kept as
          you make it, and undo takes any of it back.
        </p>
      {/if}
    {/if}
  </main>
</div>

<NewShot
  project={making}
  {projects}
  onproject={(id) => (making = id)}
  onclose={() => (making = null)}
  onmade={(shot) => place.go(`/shots/${shot.id}`)}
/>
<Sheet bind:open={naming} title="New project" about="A project holds shots and the footage under them.">
  <form class="flex gap-2" onsubmit={makeProject}>
    <input
      class="field flex-1"
      placeholder="Name of the project"
      aria-label="Name of a new project"
      maxlength="120"
      bind:value={name}
      required
    />
    <button class="button main">Create project</button>
  </form>
</Sheet>
<Sheet
  bind:open={queueOpen}
  title="Deliveries"
  about={queue.length ? '' : 'Nothing was delivered yet. Open a shot and press Deliver.'}
  size="wide"
>
  <Queue {queue} onchange={watch} />
</Sheet>
