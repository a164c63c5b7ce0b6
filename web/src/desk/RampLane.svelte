<script lang="ts">
  import type { Gradient, Guides } from '../api/client';
  import { newGesture } from '../state/edits.svelte';
  import type { Desk } from '../state/desk.svelte';
  import { specs } from '../state/specs.svelte';
  import { arithmetic } from '../ui/arithmetic';
  import PresetMenu from './PresetMenu.svelte';
  import Icon from '../ui/Icon.svelte';

  let { desk, guides, labelWidth }: { desk: Desk; guides: Guides; labelWidth: number } = $props();

  type Track = 'colours' | 'opacities';
  const gradient = $derived(desk.emitter!.colour);
  let width = $state(0);
  let chosen = $state<{ track: Track; index: number } | null>(null);
  let bar = $state<HTMLElement>();

  /** What the gradient is read by, where it is not the age. */
  const by = $derived.by(() => {
    const e = desk.emitter!;
    if (e.colour_by === 'age') return '';
    const span = ['speed', 'distance', 'since touch', 'since caught'].includes(e.colour_by)
      ? `, ${e.colour_from} – ${e.colour_to}`
      : '';
    const where: Partial<Record<typeof e.colour_by, string>> = {
      plate: 'of the plate at birth',
      source: 'of the source at birth',
    };
    return where[e.colour_by] ?? `by ${e.colour_by}${span}`;
  });
  const paint = $derived(
    `linear-gradient(to right, ${guides.ramp
      .map((colour, i) => {
        const alpha = Math.round((guides.ramp_opacity[i] ?? 1) * 255);
        return `${colour}${alpha.toString(16).padStart(2, '0')}`;
      })
      .join(',')})`,
  );
  const colour = $derived(chosen?.track === 'colours' ? (gradient.colours[chosen.index] ?? null) : null);
  const opacity = $derived(chosen?.track === 'opacities' ? (gradient.opacities[chosen.index] ?? null) : null);
  const stop = $derived(colour ?? opacity);

  function put(next: Gradient, label: string, gesture: string | null = null): void {
    desk.set(`${desk.emitterPath}/colour`, next, label, gesture);
  }

  function ageAt(event: MouseEvent): number {
    const box = bar!.getBoundingClientRect();
    return Number(Math.min(1, Math.max(0, (event.clientX - box.left) / box.width)).toFixed(3));
  }

  /** Replace one stop; both tracks stay in order of age, and the chosen stop stays chosen. */
  function replace(
    track: Track,
    index: number,
    change: object,
    label: string,
    gesture: string | null = null,
  ): void {
    const list = gradient[track].map((s) => ({ ...s }));
    const changed = { ...list[index]!, ...change };
    list[index] = changed as never;
    list.sort((a, b) => a.at - b.at);
    chosen = { track, index: list.indexOf(changed as never) };
    put({ ...gradient, [track]: list }, label, gesture);
  }

  function add(event: MouseEvent, track: Track): void {
    const at = ageAt(event);
    const i = Math.round(at * (guides.ramp.length - 1));
    const made =
      track === 'colours'
        ? { at, colour: guides.ramp[i] ?? '#ffffff', weight: 1 }
        : { at, opacity: guides.ramp_opacity[i] ?? 1 };
    const list = [...gradient[track], made].sort((a, b) => a.at - b.at);
    chosen = { track, index: list.indexOf(made) };
    put({ ...gradient, [track]: list }, `Colour: add ${track === 'colours' ? 'a colour' : 'an opacity'}`);
  }

  /** A colour by keyboard: in the middle of the widest gap. */
  function addByKey(): void {
    const ages = [0, ...gradient.colours.map((s) => s.at), 1];
    let best = 0;
    for (let i = 1; i < ages.length; i++)
      if (ages[i]! - ages[i - 1]! > ages[best + 1]! - ages[best]!) best = i - 1;
    const at = Number(((ages[best]! + ages[best + 1]!) / 2).toFixed(3));
    const made = {
      at,
      colour: guides.ramp[Math.round(at * (guides.ramp.length - 1))] ?? '#ffffff',
      weight: 1,
    };
    const list = [...gradient.colours, made].sort((a, b) => a.at - b.at);
    chosen = { track: 'colours', index: list.indexOf(made) };
    put({ ...gradient, colours: list }, 'Colour: add a colour');
  }

  function remove(): void {
    if (!chosen || (chosen.track === 'colours' && gradient.colours.length < 2)) return;
    const { track, index } = chosen;
    chosen = null;
    put({ ...gradient, [track]: gradient[track].filter((_, i) => i !== index) }, 'Colour: remove a stop');
  }

  function press(event: PointerEvent, track: Track, index: number): void {
    event.stopPropagation();
    chosen = { track, index };
    const target = bar!;
    const gesture = newGesture();
    const start = event.clientX;
    const move = (e: Event): void => {
      const p = e as PointerEvent;
      if (Math.abs(p.clientX - start) < 2) return;
      replace(track, chosen!.index, { at: ageAt(p) }, 'Colour: move a stop', gesture);
    };
    const up = (): void => {
      removeEventListener('pointermove', move);
      removeEventListener('pointerup', up);
    };
    addEventListener('pointermove', move);
    addEventListener('pointerup', up);
    target.focus();
  }

  function keys(event: KeyboardEvent, track: Track, index: number): void {
    const by = { ArrowLeft: -0.01, ArrowRight: 0.01 }[event.key];
    chosen = { track, index };
    if (by) {
      const at = Math.min(1, Math.max(0, gradient[track][index]!.at + by * (event.shiftKey ? 10 : 1)));
      replace(track, index, { at }, 'Colour: move a stop');
    } else if (event.key === 'Delete' || event.key === 'Backspace') remove();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function typedColour(text: string): void {
    const hit = /^#?([0-9a-f]{6}|[0-9a-f]{3})$/i.exec(text.trim());
    if (!hit || !chosen) return;
    const digits = hit[1]!.length === 3 ? [...hit[1]!].map((d) => d + d).join('') : hit[1]!;
    replace('colours', chosen.index, { colour: `#${digits.toLowerCase()}` }, 'Colour');
  }

  function pick(): void {
    const index = chosen!.index;
    desk.tools.picking = (found) => replace('colours', index, { colour: found }, 'Colour of the plate');
  }
</script>

<svelte:window
  onpointerdown={(e) => {
    if (!desk.tools.picking && !(e.target as Element).closest('[data-lane="colour"]')) chosen = null;
  }}
/>

<div class="flex pt-1.5" style="height:72px" data-lane="colour">
  <div class="shrink-0 pr-3 pl-3" style="width:{labelWidth}px">
    <div class="flex items-center">
      <span class="font-semibold">Colour</span>
      <button
        class="quiet size-6! min-w-6!"
        aria-label="Colour: add a stop"
        title="Add a colour in the widest gap"
        onclick={addByKey}><Icon name="plus" size={11} /></button
      >
      <PresetMenu
        of="colour"
        presets={specs.presets.ramps}
        columns={2}
        onchoose={(preset) => put(preset.gradient, `Colour: ${preset.name}`)}
      >
        {#snippet picture(preset)}
          <span
            class="block h-5 rounded"
            style="background:linear-gradient(to right,{preset.picture.join(',')})"
          ></span>
        {/snippet}
      </PresetMenu>
    </div>
    <button
      class="min-h-6 text-left text-[11px] leading-tight text-soft hover:text-word"
      title="How neighbouring colours are mixed; stepped: without mixing"
      onclick={() =>
        put(
          {
            ...gradient,
            mix: ({ oklab: 'linear', linear: 'stepped', stepped: 'oklab' } as const)[gradient.mix],
          },
          'Colour mixing',
        )}
      >{#if by}<span class="text-word">{by}</span><br />{/if}{{
        oklab: 'mixed in Oklab',
        linear: 'mixed in light',
        stepped: 'stepped',
      }[gradient.mix]}</button
    >
  </div>
  <div class="relative min-w-0 flex-1" bind:clientWidth={width}>
    <!-- svelte-ignore a11y_no_static_element_interactions -->
    <div
      bind:this={bar}
      tabindex="-1"
      class="absolute top-[11px] right-0 left-0 h-[22px] rounded-[3px] outline-none"
      style="background:{paint}, repeating-conic-gradient(#8a8a8a 0 25%, #c4c4c4 0 50%) 0 0/10px 10px"
      title="Double-click the upper half for an opacity, the lower for a colour"
      ondblclick={(e) => add(e, e.offsetY < 11 ? 'opacities' : 'colours')}
    ></div>
    {#each gradient.opacities as s, index (index)}
      <button
        class="absolute top-[-6px] grid size-6 -translate-x-1/2 place-items-center"
        style="left:{s.at * 100}%"
        role="slider"
        aria-valuenow={Math.round(s.at * 100)}
        aria-valuetext="{Math.round(s.opacity * 100)} % at {Math.round(s.at * 100)} %"
        aria-label="Opacity {index + 1}"
        onpointerdown={(e) => press(e, 'opacities', index)}
        onkeydown={(e) => keys(e, 'opacities', index)}
        ><span
          class="size-[13px] rotate-45 border-[1.5px] {chosen?.track === 'opacities' && chosen.index === index
            ? 'border-aurora'
            : 'border-ice'}"
          style="background:color-mix(in srgb, var(--word) {s.opacity * 100}%, var(--ground))"
        ></span></button
      >
    {/each}
    {#each gradient.colours as s, index (index)}
      <button
        class="absolute top-[22px] grid size-6 -translate-x-1/2 place-items-center"
        style="left:{s.at * 100}%"
        role="slider"
        aria-valuenow={Math.round(s.at * 100)}
        aria-valuetext="{s.colour} at {Math.round(s.at * 100)} %"
        aria-label="Colour {index + 1}"
        onpointerdown={(e) => press(e, 'colours', index)}
        onkeydown={(e) => keys(e, 'colours', index)}
        ><span
          class="size-[15px] rounded-full border-2 {chosen?.track === 'colours' && chosen.index === index
            ? 'border-aurora'
            : 'border-word'}"
          style="background:{s.colour}"
        ></span></button
      >
    {/each}
    {#if stop}
      <div
        class="absolute top-[45px] z-10 flex items-center gap-1 rounded-md border border-line-strong bg-raised px-1.5 py-0.5 text-[11px] shadow-lg"
        style={stop.at < 0.6 ? `left:${stop.at * width}px` : `right:${(1 - stop.at) * width}px`}
      >
        <input
          class="w-10 rounded bg-well px-1 text-right"
          aria-label="Age of the stop in percent"
          value={Number((stop.at * 100).toFixed(2))}
          onchange={(e) => {
            const v = arithmetic(e.currentTarget.value);
            if (v !== null)
              replace(
                chosen!.track,
                chosen!.index,
                { at: Math.min(1, Math.max(0, v / 100)) },
                'Colour: exact stop',
              );
          }}
          onkeydown={(e) => e.stopPropagation()}
        /><span class="text-soft">%</span>
        {#if colour}
          <input
            type="color"
            class="h-5 w-7 bg-transparent"
            aria-label="Colour of the stop"
            value={colour.colour}
            onchange={(e) => typedColour(e.currentTarget.value)}
          />
          <input
            class="w-16 rounded bg-well px-1"
            aria-label="Colour of the stop as text"
            value={colour.colour}
            onchange={(e) => typedColour(e.currentTarget.value)}
            onkeydown={(e) => e.stopPropagation()}
          />
          {#if gradient.mix === 'stepped'}
            <input
              class="w-9 rounded bg-well px-1 text-right"
              aria-label="Weight of the colour"
              title="Share of particles with this colour, for random colours"
              value={colour.weight}
              onchange={(e) => {
                const v = arithmetic(e.currentTarget.value);
                if (v !== null && v >= 0)
                  replace('colours', chosen!.index, { weight: v }, 'Weight of a colour');
              }}
              onkeydown={(e) => e.stopPropagation()}
            /><span class="text-soft">share</span>
          {/if}
          <button
            class="quiet size-6! min-w-6!"
            aria-label="Pick a colour from the plate"
            title="Pick a colour from the plate"
            onclick={pick}><Icon name="pick" size={13} /></button
          >
        {:else if opacity}
          <input
            class="w-10 rounded bg-well px-1 text-right"
            aria-label="Opacity of the stop in percent"
            value={Number((opacity.opacity * 100).toFixed(2))}
            onchange={(e) => {
              const v = arithmetic(e.currentTarget.value);
              if (v !== null)
                replace(
                  'opacities',
                  chosen!.index,
                  { opacity: Math.min(1, Math.max(0, v / 100)) },
                  'Opacity of a stop',
                );
            }}
            onkeydown={(e) => e.stopPropagation()}
          /><span class="text-soft">% opaque</span>
        {/if}
        <button
          class="quiet size-6! min-w-6!"
          aria-label="Remove the stop"
          title="Remove (Delete)"
          onclick={remove}><Icon name="close" size={11} /></button
        >
      </div>
    {/if}
  </div>
</div>
