<script lang="ts">
  import { got, api } from '../api/client';
  import { drawn } from '../api/picture';
  import type { Desk } from '../state/desk.svelte';
  import type { Box } from '../state/scene_items';
  import { notices } from '../state/notices.svelte';
  import Compare from '../review/Compare.svelte';
  import Lookout from '../review/Lookout.svelte';
  import FirstWords from './FirstWords.svelte';
  import { follow } from '../ui/drag';
  import { frameOf, polyline, toShot } from './geometry';
  import { own } from './grips';
  import { panelLayout } from '../state/panel_layout.svelte';
  import Guides from './Guides.svelte';
  import Inspect from './Inspect.svelte';
  import Over from './Over.svelte';

  let { desk }: { desk: Desk } = $props();
  const shot = $derived(desk.shot!);
  let stage = $state({ width: 0, height: 0 });
  let wordsRead = $state(false);
  let zoom = $state<number | null>(null);
  const untouched = $derived(!desk.state?.undo && !desk.state?.redo && !shot.plate && !wordsRead);
  let shift = $state({ x: 0, y: 0 });
  let canvas = $state<HTMLCanvasElement>();
  const frame = $derived(frameOf(stage, shot, zoom, shift));
  /** What is drawn in full: the chosen thing; else the emitter on the desk. */
  const shown = $derived.by(() => {
    const id = desk.thing?.id ?? desk.emitter?.id;
    const emitter = desk.scene?.emitters.find((g) => g.emitter === id) ?? null;
    const thing = emitter?.shown ?? desk.scene?.world.find((w) => w.id === id) ?? null;
    const within = desk.force?.zone;
    const zone = desk.scene?.world.find((w) => w.id === within) ?? null;
    return thing && { thing, guides: emitter, zone, path: desk.pathOf(thing.id) };
  });
  const shownName = $derived((desk.thing ?? desk.emitter)?.name ?? '');

  /** Where on the shot a pointer is, from a press on the stage on. */
  function pointed(press: PointerEvent): (e: PointerEvent) => { x: number; y: number } {
    const box = (press.currentTarget as HTMLElement).getBoundingClientRect();
    return (e) => toShot(frame, shot, e.clientX - box.left, e.clientY - box.top);
  }

  // A way that is led by hand: while it plays, the pointer's place is taken with every frame.
  let hand = $state.raw<{ x: number; y: number } | null>(null);
  let samples: { at_s: number; across: number; up: number }[] = [];
  $effect(() => {
    const at = desk.player.now;
    if (!hand || !desk.tools.recording) return;
    const every = [...(desk.scene?.world ?? []), ...(desk.scene?.emitters.map((g) => g.shown) ?? [])];
    const grip = every.find((w) => w.id === desk.tools.recording)?.grips?.find((g) => g.name === 'Place');
    const before = samples[samples.length - 1];
    if (!grip || (before && at <= before.at_s)) return;
    const [across, up] = own(grip, hand);
    samples.push({ at_s: Number(at.toFixed(4)), across, up });
  });

  function lead(event: PointerEvent): void {
    const at = pointed(event);
    samples = [];
    hand = at(event);
    desk.player.play(true);
    follow(event, {
      move: (e) => (hand = at(e)),
      up: () => {
        const id = desk.tools.recording!;
        hand = desk.tools.recording = null;
        desk.player.play(false);
        if (samples.length > 1) void desk.record(id, samples, 3);
      },
    });
  }

  function turn(event: PointerEvent): void {
    const from = { ...desk.player.orbit!, x: event.clientX, y: event.clientY };
    follow(event, {
      move: (e) =>
        desk.player.lookFrom({
          side: Math.round(from.side - (e.clientX - from.x) * 0.4),
          above: Math.round(Math.min(89, Math.max(-89, from.above + (e.clientY - from.y) * 0.4))),
          far: from.far,
        }),
    });
  }

  $effect(() => {
    const density = Math.min(2, window.devicePixelRatio || 1);
    const most = Math.max(shot.width, 640) * 2;
    desk.player.size(Math.round(Math.min(most, Math.max(32, frame.width * density))));
  });

  $effect(() => drawn(canvas, desk.player.picture));

  function wheel(event: WheelEvent): void {
    event.preventDefault();
    if (desk.player.orbit) {
      const far = Math.min(8, Math.max(0.3, desk.player.orbit.far * 1.001 ** event.deltaY));
      desk.player.lookFrom({ ...desk.player.orbit, far: Number(far.toFixed(3)) });
      return;
    }
    const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
    const [x, y] = [event.clientX - box.left, event.clientY - box.top];
    const at = toShot(frame, shot, x, y);
    const fit = Math.min(stage.width / shot.width, stage.height / shot.height);
    const next = Math.min(8, Math.max(fit * 0.5, (frame.width / shot.width) * 1.0015 ** -event.deltaY));
    zoom = next;
    shift = {
      x: x - at.x * next - (stage.width - shot.width * next) / 2,
      y: y - at.y * next - (stage.height - shot.height * next) / 2,
    };
  }

  function fit(): void {
    zoom = null;
    shift = { x: 0, y: 0 };
  }

  async function pick(event: PointerEvent): Promise<void> {
    await pickAt(pointed(event)(event));
  }

  async function pickAt(at: { x: number; y: number }): Promise<void> {
    try {
      const found = await got(
        api.GET('/api/shots/{shot_id}/pick', {
          params: { path: { shot_id: desk.id }, query: { frame: desk.player.frame, x: at.x, y: at.y } },
        }),
      );
      desk.tools.picking?.(found.colour);
    } catch (error) {
      notices.trouble(error);
    }
    desk.tools.picking = null;
  }

  /** Where was pressed to follow a particle. */
  let inspected = $state.raw<{ x: number; y: number } | null>(null);
  $effect(() => {
    if (!desk.tools.inspecting) inspected = null;
  });

  // The picture by keyboard: zoom and pan; turning in a free look; a cross for the picker and for the frame of a palette.
  let cross = $state.raw<{ x: number; y: number } | null>(null);
  let corner: { x: number; y: number } | null = null;
  const asks = $derived(desk.tools.picking !== null || desk.tools.framing !== null || desk.tools.inspecting);
  $effect(() => {
    if (!asks) cross = corner = null;
  });

  function scaled(by: number): void {
    const fitting = Math.min(stage.width / shot.width, stage.height / shot.height);
    const before = frame.width / shot.width;
    const next = Math.min(8, Math.max(fitting * 0.5, before * by));
    zoom = next;
    shift = { x: (shift.x * next) / before, y: (shift.y * next) / before };
  }

  async function confirm(): Promise<void> {
    const at = cross ?? { x: shot.width / 2, y: shot.height / 2 };
    if (desk.tools.picking) await pickAt(at);
    else if (desk.tools.inspecting) inspected = at;
    else if (desk.tools.framing && !corner) corner = at;
    else if (desk.tools.framing && corner) {
      const take = desk.tools.framing;
      const done: Box = [corner.x, corner.y, at.x, at.y];
      desk.tools.framing = framed = null;
      take(done);
    }
  }

  function keys(event: KeyboardEvent): void {
    const way = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
    const step = event.shiftKey ? 40 : 8;
    if (event.ctrlKey || event.metaKey) return;
    if (event.key === '+' || event.key === '=') scaled(1.25);
    else if (event.key === '-') scaled(0.8);
    else if (event.key === '0') fit();
    else if (asks && event.key === 'Enter') void confirm();
    else if (asks && way) {
      const from = cross ?? { x: shot.width / 2, y: shot.height / 2 };
      cross = {
        x: Math.min(shot.width - 1, Math.max(0, from.x + way[0]! * step)),
        y: Math.min(shot.height - 1, Math.max(0, from.y + way[1]! * step)),
      };
      if (corner) framed = [corner.x, corner.y, cross.x, cross.y];
    } else if (desk.player.orbit && way) {
      const { side, above, far } = desk.player.orbit;
      desk.player.lookFrom({
        side: side + way[0]! * 5,
        above: Math.min(89, Math.max(-89, above - way[1]! * 5)),
        far,
      });
    } else if (way && event.altKey) {
      zoom ??= frame.width / shot.width;
      shift = { x: shift.x - way[0]! * step, y: shift.y - way[1]! * step };
    } else return;
    event.preventDefault();
    event.stopPropagation();
  }

  // A frame that is drawn on the plate, in px of the shot.
  let framed = $state.raw<Box | null>(null);
  function draw(event: PointerEvent): void {
    const at = pointed(event);
    const from = at(event);
    follow(event, {
      move: (e) => {
        const to = at(e);
        framed = [from.x, from.y, to.x, to.y];
      },
      up: () => {
        const done = framed;
        const take = desk.tools.framing;
        desk.tools.framing = framed = null;
        if (done) take?.(done);
      },
    });
  }

  function press(event: PointerEvent): void {
    if (desk.tools.framing) {
      draw(event);
      return;
    }
    if (desk.tools.picking) {
      void pick(event);
      return;
    }
    if (desk.tools.recording) {
      lead(event);
      return;
    }
    if (desk.tools.inspecting && event.button === 0 && !desk.player.orbit) {
      inspected = pointed(event)(event);
      return;
    }
    if (desk.player.orbit) {
      turn(event);
      return;
    }
    if (event.button > 1) return;
    const from = { x: event.clientX - shift.x, y: event.clientY - shift.y };
    follow(event, {
      move: (e) => {
        zoom ??= frame.width / shot.width;
        shift = { x: e.clientX - from.x, y: e.clientY - from.y };
      },
    });
  }
</script>

<div
  class="relative h-full overflow-hidden bg-surround"
  bind:clientWidth={stage.width}
  bind:clientHeight={stage.height}
>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
  <div
    class="absolute inset-0 touch-none"
    class:cursor-crosshair={asks || desk.tools.recording !== null}
    id="picture"
    role="group"
    tabindex="0"
    aria-label="The picture: + and − zoom, Alt and arrows move, 0 fits{desk.player.orbit
      ? ', arrows rotate the orbit view'
      : ''}{asks ? ', arrows move the cross, Enter takes it' : ''}"
    onkeydown={keys}
    onwheel={wheel}
    onpointerdown={press}
    ondblclick={fit}
  >
    <canvas
      bind:this={canvas}
      data-frame={desk.player.header?.frame}
      data-revision={desk.player.header?.revision}
      data-serial={desk.player.header?.serial}
      data-exact={desk.player.header?.exact}
      aria-label="The picture, frame {desk.player.frame}"
      class="absolute will-change-transform"
      style="left:{frame.left +
        (desk.tools.comparing?.how === 'side'
          ? stage.width / 4
          : 0)}px;top:{frame.top}px;width:{frame.width}px;height:{frame.height}px"
    ></canvas>
  </div>
  {#if desk.player.orbit && desk.scene?.picture.length}
    <svg
      class="pointer-events-none absolute overflow-visible"
      style="left:{frame.left}px;top:{frame.top}px"
      width={frame.width}
      height={frame.height}
      viewBox="0 0 {shot.width} {shot.height}"
      aria-label="The shot's frame in the orbit view"
    >
      <polyline
        points={polyline(desk.scene.picture)}
        fill="none"
        stroke="#c9cccc"
        stroke-width={(1.2 * shot.width) / frame.width}
        stroke-dasharray="6 5"
      />
    </svg>
  {/if}
  {#if desk.tools.comparing}<Compare {desk} {frame} stage={stage.width} />{/if}
  {#if framed}
    {@const [x0, y0, x1, y1] = framed}
    {@const k = frame.width / shot.width}
    <div
      class="pointer-events-none absolute border border-white bg-white/10"
      style="left:{frame.left + Math.min(x0, x1) * k}px;top:{frame.top +
        Math.min(y0, y1) * k}px;width:{Math.abs(x1 - x0) * k}px;height:{Math.abs(y1 - y0) * k}px"
    ></div>
  {/if}
  {#if desk.tools.guidesOn && !panelLayout.alone && !desk.player.playing && !desk.tools.comparing && desk.player.view !== 'alpha' && desk.player.view !== 'layers' && shown && frame.width > 0}
    <Guides
      {desk}
      shown={shown.thing}
      zone={shown.zone}
      guides={shown.guides}
      flights={desk.guides?.flights ?? []}
      path={shown.path}
      name={shownName}
      {frame}
    />
  {/if}

  {#if desk.tools.inspecting && !panelLayout.alone && !desk.player.playing && !desk.player.orbit}
    <Inspect {desk} {frame} at={inspected} onclose={() => (desk.tools.inspecting = false)} />
  {/if}
  {#if cross}
    <div
      class="pointer-events-none absolute size-5 -translate-x-1/2 -translate-y-1/2 rounded-full border-2 border-white shadow-[0_0_0_2px_#000]"
      style="left:{frame.left + (cross.x * frame.width) / shot.width}px;top:{frame.top +
        (cross.y * frame.width) / shot.width}px"
    ></div>
  {/if}

  <Over {desk} enlarged={zoom === null ? null : frame.width / shot.width} onfit={fit} />
  <div class="absolute right-2.5 bottom-2.5 left-2.5 flex flex-col gap-1.5">
    {#if desk.tools.recording}
      <p class="self-center rounded-lg bg-[#101214d9] px-3 py-1.5 text-white">
        Press on the picture and follow the motion: every frame records the position of the pointer. Esc
        cancels.
      </p>
    {:else if desk.player.orbit}
      <p class="self-center rounded-lg bg-[#101214d9] px-3 py-1.5 text-[#c9cccc]">
        Orbit view: drag to rotate, scroll to zoom. The shot's camera does not change.
      </p>
    {/if}
    {#if desk.tools.framing}
      <p class="self-center rounded-lg bg-[#101214d9] px-3 py-1.5 text-white">
        Drag a rectangle on the plate: its colours become the gradient. Esc cancels.
      </p>
    {/if}
    {#if desk.tools.picking}
      <p class="self-center rounded-lg bg-[#101214d9] px-3 py-1.5 text-white">
        Click on the plate to pick its colour. Esc cancels.
      </p>
    {/if}
    {#if untouched && !desk.tools.picking && !desk.player.playing}<FirstWords
        onclose={() => (wordsRead = true)}
      />{/if}
    {#if !desk.player.playing && !desk.tools.recording && !desk.tools.picking}<Lookout {desk} />{/if}
    {#if desk.player.problem}
      <p class="rounded-lg border border-[#ff8f8f] bg-[#101214f0] px-3 py-1.5 text-[#ffb3b3]" role="alert">
        ⚠ {desk.player.problem.what}
        <span class="text-[#c9cccc]">{desk.player.problem.where} {desk.player.problem.remedy}</span>
      </p>
    {/if}
  </div>
</div>
