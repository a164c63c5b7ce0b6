<script lang="ts">
  import Finish from '../finish/Finish.svelte';
  import { finishAbout } from '../finish/kinds';
  import Section from '../ui/Section.svelte';
  import type { Desk } from '../state/desk.svelte';
  import { upload } from '../api/client';
  import { POINTS, takePoints } from './points';
  import { notices } from '../state/notices.svelte';
  import { specs } from '../state/specs.svelte';
  import Choice from '../fields/Choice.svelte';
  import Fields from '../fields/Fields.svelte';
  import FileButton from '../fields/FileButton.svelte';
  import PlainField from '../fields/PlainField.svelte';
  import Switch from '../fields/Switch.svelte';

  let { desk }: { desk: Desk } = $props();
  const shot = $derived(desk.shot!);
  const names: Record<string, string> = {
    '24000/1001': '23.976',
    '30000/1001': '29.97',
    '60000/1001': '59.94',
  };
  const rates = $derived(
    [...new Set([...specs.rates, shot.rate])].map((value) => ({
      value,
      label: `${names[value] ?? value} fps`,
    })),
  );
  const put = (path: string, label: string) => (value: number | null) => {
    if (value !== null) desk.set(path, value, label);
  };

  async function takeScene(file: File): Promise<void> {
    const found = await upload<{ taken: string[] }>(
      'POST',
      `/api/shots/${desk.id}/scene?name=${encodeURIComponent(file.name)}`,
      file,
    );
    await desk.reload();
    notices.say(`Imported from ${file.name}: ${found.taken.join(', ')}.`);
  }
</script>

<PlainField label="Width" value={shot.width} unit="px" onset={put('/width', 'Width')} />
<PlainField label="Height" value={shot.height} unit="px" onset={put('/height', 'Height')} />
<Choice
  label="Frame rate"
  value={shot.rate}
  items={rates}
  hint="Motion is defined in seconds: another rate shows the same motion."
  onset={(v) => desk.set('/rate', v, 'Frame rate')}
/>
<PlainField label="First frame" value={shot.first_frame} onset={put('/first_frame', 'First frame')} />
<PlainField label="Last frame" value={shot.last_frame} onset={put('/last_frame', 'Last frame')} />
<p class="py-2 text-[11.5px] text-soft">Timecode {desk.state?.timecodes[0]} – {desk.state?.timecodes[1]}</p>
<PlainField
  label="Px per metre"
  value={shot.px_per_metre}
  unit="px"
  hint="Scale of the scene, so that gravity can be given in m/s²."
  onset={put('/px_per_metre', 'Px per metre')}
/>
<PlainField
  label="Particle limit"
  value={shot.limit}
  hint="Maximum number of particles of all emitters together; small emitters keep all of theirs."
  onset={put('/limit', 'Limit of the shot')}
/>
<PlainField
  label="Simulation rate"
  value={shot.simulation_rate}
  unit="/s"
  hint="Simulation steps per second."
  onset={put('/simulation_rate', 'Simulation rate')}
/>
<Switch
  label="Loop without a seam"
  on={shot.loop}
  hint="Loops without a seam: the particles alive at the end are alive at the start."
  onset={(on) => desk.set('/loop', on, 'Loop')}
/>
{#if shot.loop}
  <PlainField
    label="Cross-fade"
    value={shot.crossover_s}
    unit="s"
    hint="Interacting particles cannot repeat: at the end they cross-fade to those from before the start."
    onset={put('/crossover_s', 'Cross-fade')}
  />
{/if}
<PlainField label="Seed" value={shot.seed} onset={put('/seed', 'Seed of the shot')} />
<Choice
  label="Camera"
  value={shot.camera.kind}
  items={[
    { value: 'flat', label: 'Flat' },
    { value: 'perspective', label: 'Perspective' },
  ]}
  onset={(v) => desk.set('/camera/kind', v, 'Camera')}
/>
{#if shot.camera.kind === 'perspective'}
  <Fields
    {desk}
    model="Camera"
    owner={shot.camera}
    path="/camera"
    only={['sorting', 'focal_mm', 'filmback_mm', 'forward']}
  />
{/if}
<Fields
  {desk}
  model="Camera"
  owner={shot.camera}
  path="/camera"
  only={['across', 'up', 'pan', 'pitch', 'roll', 'shutter', 'shutter_phase']}
/>
{#if shot.camera.kind === 'perspective'}
  <Fields {desk} model="Camera" owner={shot.camera} path="/camera" only={['focus', 'aperture']} />
{/if}
<div class="flex flex-wrap gap-1.5 py-1.5">
  <FileButton
    text="Camera and positions from a file …"
    label="Camera and positions"
    accept=".usd,.usda,.usdc,.csv"
    ontake={takeScene}
  />
  <FileButton
    text="Particles from files …"
    label="Recorded particles"
    accept={POINTS}
    many
    ontake={(_, all) => takePoints(desk, all)}
  />
</div>
<div class="pt-1">
  <Section title="Effects on all particles" about={finishAbout(shot.finish)}>
    <Finish
      {desk}
      steps={shot.finish}
      path="/finish"
      about="Effects on all particles together, over the plate."
    />
  </Section>
</div>
<label class="flex h-[26px] items-center justify-between border-b border-line">
  <span>Background</span>
  <span class="flex items-center gap-2">
    {#if shot.background}
      <button
        class="text-[11.5px] text-soft hover:text-word"
        onclick={() => desk.set('/background', null, 'No background')}>none</button
      >
    {/if}
    <input
      type="color"
      class="h-5 w-9 rounded border border-line-strong bg-transparent {shot.background ? '' : 'opacity-40'}"
      aria-label="Background colour"
      value={shot.background ?? '#000000'}
      onchange={(e) => desk.set('/background', e.currentTarget.value, 'Background')}
    />
  </span>
</label>
