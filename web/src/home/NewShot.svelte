<script lang="ts">
  import { got, api, type Problem, type ProjectCard, Refused, type ShotCard } from '../api/client';
  import { notices } from '../state/notices.svelte';
  import { specs } from '../state/specs.svelte';
  import Choice from '../fields/Choice.svelte';
  import Sheet from '../ui/Sheet.svelte';

  interface Props {
    project: number | null;
    projects: readonly ProjectCard[];
    onproject: (id: number) => void;
    onclose: () => void;
    onmade: (shot: ShotCard) => void;
  }
  let { project, projects, onproject, onclose, onmade }: Props = $props();
  let given = $state({ name: '', width: 1280, height: 720, rate: '25', frames: 250 });
  let problem = $state<Problem | null>(null);
  const sizes = ['1280 × 720', '1920 × 1080', '3840 × 2160', '1080 × 1920', '1080 × 1080'];
  const rates = $derived(specs.rates.map((value) => ({ value, label: `${value} fps` })));

  $effect(() => {
    if (project !== null) specs.load().catch((error) => notices.trouble(error));
  });

  async function make(event: SubmitEvent): Promise<void> {
    event.preventDefault();
    problem = null;
    try {
      onmade(
        await got(
          api.POST('/api/projects/{project_id}/shots', {
            params: { path: { project_id: project! } },
            body: given,
          }),
        ),
      );
    } catch (error) {
      if (error instanceof Refused) problem = error.problem;
      else notices.trouble(error);
    }
  }
</script>

<Sheet
  bind:open={() => project !== null, (yes) => !yes && onclose()}
  title="New shot"
  about="The frame rate sets cadence and delivery; motion is defined in seconds."
>
  <form class="flex flex-col gap-2.5" onsubmit={make}>
    <label
      ><span class="text-soft">Name</span>
      <input class="field w-full" bind:value={given.name} required maxlength="120" /></label
    >
    {#if projects.length > 1}
      <div>
        <span class="text-soft">Project</span>
        <Choice
          row={false}
          label="Project"
          value={String(project ?? '')}
          items={projects.map((one) => ({ value: String(one.id), label: one.name }))}
          onset={(id) => onproject(Number(id))}
        />
      </div>
    {/if}
    <div>
      <span class="text-soft">Size</span>
      <div class="flex items-center gap-2">
        <input
          class="field w-24"
          type="number"
          min="16"
          max="16384"
          aria-label="Width"
          bind:value={given.width}
          required
        />
        ×
        <input
          class="field w-24"
          type="number"
          min="16"
          max="16384"
          aria-label="Height"
          bind:value={given.height}
          required
        />
        <div class="flex-1">
          <Choice
            row={false}
            label="Common sizes"
            value={`${given.width} × ${given.height}`}
            items={sizes.map((value) => ({ value, label: value }))}
            onset={(v) => ([given.width, given.height] = v.split(' × ').map(Number) as [number, number])}
          />
        </div>
      </div>
    </div>
    <div class="grid grid-cols-2 gap-3">
      <div>
        <span class="text-soft">Frame rate</span>
        <Choice
          row={false}
          label="Frame rate"
          value={given.rate}
          items={rates}
          onset={(v) => (given.rate = v)}
        />
      </div>
      <label
        ><span class="text-soft">Frames</span>
        <input class="field w-full" type="number" min="1" bind:value={given.frames} required /></label
      >
    </div>
    {#if problem}<p class="text-red" role="alert">⚠ {problem.where}: {problem.what}</p>{/if}
    <div class="flex justify-end pt-1"><button class="button main">Create shot</button></div>
  </form>
</Sheet>
