<script lang="ts">
  import { DropdownMenu } from 'bits-ui';
  import { tick } from 'svelte';
  import { api, got, type Deformer, type Step } from '../api/client';
  import type { Desk } from '../state/desk.svelte';
  import { notices } from '../state/notices.svelte';
  import { specs, type KindOf } from '../state/specs.svelte';
  import { follow } from '../ui/drag';
  import Fields from '../fields/Fields.svelte';
  import Icon from '../ui/Icon.svelte';

  /** path: JSON pointer of the steps, which are done from the first to the last; word: what one is called. */
  let {
    desk,
    steps,
    path,
    about,
    word = 'effect',
    kinds = specs.steps,
    most = 16,
  }: {
    desk: Desk;
    steps: readonly (Step | Deformer)[];
    path: string;
    about: string;
    word?: string;
    kinds?: KindOf[];
    most?: number;
  } = $props();
  const capital = $derived(word.charAt(0).toUpperCase() + word.slice(1));
  let open = $state(0);
  const item = 'flex h-7 items-center gap-2 rounded px-2 data-highlighted:bg-aurora-ground';
  const kindOf = (kind: string) => kinds.find((one) => one.kind === kind);

  function add(kind: string): void {
    open = steps.length;
    desk.change([{ op: 'add', path: `${path}/-`, value: { kind } }], `${capital}: ${kind}`);
  }

  function move(from: number, by: number): void {
    const list = [...steps];
    const [one] = list.splice(from, 1);
    list.splice(from + by, 0, one!);
    open = from + by;
    desk.set(path, list, `Order of the ${word}s`);
  }

  /** The rows, to find the gap under the dragged one; and the place where it would be dropped. */
  let rows = $state<HTMLElement[]>([]);
  let held = $state<{ from: number; to: number } | null>(null);
  let dropped = false;
  /** Before which row a line shows that. */
  const line = $derived(held && held.to !== held.from ? held.to + (held.to > held.from ? 1 : 0) : -1);

  function take(event: PointerEvent, from: number): void {
    if (event.button !== 0 || steps.length < 2) return;
    const begin = event.clientY;
    follow(event, {
      move: (e) => {
        if (!held && Math.abs(e.clientY - begin) < 5) return;
        const others = rows.slice(0, steps.length).filter((_, n) => n !== from);
        const to = others.filter((row) => {
          const box = row.getBoundingClientRect();
          return e.clientY > box.top + box.height / 2;
        }).length;
        held = { from, to };
      },
      up: () => {
        const now = held;
        held = null;
        // The click that ends it opens nothing.
        dropped = now !== null;
        setTimeout(() => (dropped = false));
        if (now && now.to !== now.from) move(now.from, now.to - now.from);
      },
    });
  }

  async function shift(event: KeyboardEvent, from: number): Promise<void> {
    const by = event.altKey ? ({ ArrowUp: -1, ArrowDown: 1 }[event.key] ?? 0) : 0;
    if (!by || from + by < 0 || from + by >= steps.length) return;
    event.preventDefault();
    event.stopPropagation();
    move(from, by);
    await tick();
    rows[from + by]?.querySelector('button')?.focus();
  }

  async function matchGrain(at: number): Promise<void> {
    try {
      const grain = await got(
        api.GET('/api/shots/{shot_id}/grain', {
          params: { path: { shot_id: desk.id }, query: { frame: desk.player.frame } },
        }),
      );
      desk.setNumbers(
        [
          [`${path}/${at}/amount`, grain.amount],
          [`${path}/${at}/size`, grain.size],
        ],
        'Grain of the plate',
      );
    } catch (error) {
      notices.trouble(error);
    }
  }
</script>

{#each steps as step, i (i)}
  {@const one = kindOf(step.kind)}
  {@const label = one?.title ?? step.kind}
  {#if line === i}<div class="-mb-0.5 h-0.5 rounded bg-aurora" data-line></div>{/if}
  <div
    bind:this={rows[i]}
    class="flex h-[26px] items-center border-b border-line"
    class:opacity-50={!step.on}
    class:bg-raised={held?.from === i}
  >
    <button
      class="flex h-full min-w-0 flex-1 touch-none items-center gap-1 text-left"
      aria-expanded={open === i}
      aria-label="{label}, {word} {i + 1}"
      aria-keyshortcuts="Alt+ArrowUp Alt+ArrowDown"
      title={steps.length > 1 ? 'Drag it, or press Alt and an arrow, to change the order' : undefined}
      onpointerdown={(e) => take(e, i)}
      onkeydown={(e) => void shift(e, i)}
      onclick={() => {
        if (!dropped) open = open === i ? -1 : i;
      }}
    >
      <span class="w-3.5 text-[11px] text-soft">{i + 1}</span>
      <span class="truncate" class:font-semibold={open === i}>{label}</span>
    </button>
    {#if i > 0}
      <button class="quiet" aria-label="{label}: earlier" title="Move up" onclick={() => move(i, -1)}
        ><span class="-rotate-90"><Icon name="chevron" size={11} /></span></button
      >
    {/if}
    <button
      class="quiet"
      aria-label="Remove {label}"
      title="Remove"
      onclick={() =>
        desk.set(
          path,
          steps.filter((_, j) => j !== i),
          `${capital}s: no ${step.kind}`,
        )}><Icon name="close" size={11} /></button
    >
    <button
      class="quiet"
      aria-label="{label} is {step.on ? 'on' : 'off'}"
      aria-pressed={step.on}
      title={step.on ? 'Switch off' : 'Switch on'}
      onclick={() => desk.set(`${path}/${i}/on`, !step.on, step.on ? 'Switch off' : 'Switch on')}
    >
      <span class="size-[7px] rounded-full {step.on ? 'bg-soft' : 'border border-soft'}"></span>
    </button>
  </div>
  {#if open === i}
    <div class="border-b border-line pb-1 pl-3.5">
      <Fields {desk} model={one?.model ?? ''} owner={step} path="{path}/{i}" />
      {#if one?.tool === 'grain of the plate' && desk.shot?.plate}
        <button class="button mt-1.5 h-6! px-2! text-[11.5px]" onclick={() => matchGrain(i)}
          >Match the plate</button
        >
      {/if}
    </div>
  {/if}
{/each}
{#if line === steps.length}<div class="-mb-0.5 h-0.5 rounded bg-aurora" data-line></div>{/if}
{#if steps.length === 0}<p class="pb-1.5 text-soft">{about}</p>{/if}
{#if steps.length < most}
  <DropdownMenu.Root>
    <DropdownMenu.Trigger class="button mt-1.5 h-6! px-2! text-[11.5px]"
      >Add {word === 'effect' ? 'an' : 'a'} {word} <Icon name="plus" size={11} /></DropdownMenu.Trigger
    >
    <DropdownMenu.Portal>
      <DropdownMenu.Content
        align="start"
        sideOffset={2}
        class="z-60 w-44 rounded-lg border border-line-strong bg-raised p-1 shadow-xl"
      >
        {#each kinds as one (one.kind)}
          <DropdownMenu.Item class={item} onSelect={() => add(one.kind)}>{one.title}</DropdownMenu.Item>
        {/each}
      </DropdownMenu.Content>
    </DropdownMenu.Portal>
  </DropdownMenu.Root>
{/if}
