<script lang="ts">
  import type { NumberValue } from '../api/client';
  import { newGesture } from '../state/edits.svelte';
  import type { Desk } from '../state/desk.svelte';
  import type { Spec } from '../state/specs.svelte';
  import { arithmetic, shown } from '../ui/arithmetic';
  import { follow } from '../ui/drag';
  import Drivers from './Drivers.svelte';

  interface Props {
    desk: Desk;
    label: string;
    path: string;
    number: NumberValue;
    spec: Spec;
  }
  let { desk, label, path, number, spec }: Props = $props();
  const helpId = $props.id();

  let typing = $state<'value' | 'spread' | null>(null);
  let draft = $state('');
  let wrong = $state(false);

  const clocks = {
    shot: 'Read by shot time',
    birth: 'Read once, at birth',
    age: 'Read through life, by age',
    none: 'A setting of the source',
  };
  const hint = $derived([spec.help, clocks[spec.clock] + '.'].filter(Boolean).join(' '));
  const refused = $derived(
    desk.edits.refusal !== null && '/' + desk.edits.refusal.where.replaceAll('.', '/') === path
      ? desk.edits.refusal.what
      : '',
  );

  const keyed = $derived(number.keys.length > 0);
  const off = $derived(number.off ?? []);
  const now = $derived(keyed ? desk.valueNow(path, { ...number, flutter: null }) : number.value);

  function clamp(value: number): number {
    return Math.min(spec.high, Math.max(spec.low, value));
  }

  function put(part: 'value' | 'spread', value: number, gesture: string | null = null): void {
    if (part === 'spread') desk.set(`${path}/spread`, Math.max(0, value), `${label} variation`, gesture);
    else desk.setNumbers([[path, value]], label, gesture);
  }

  function press(event: PointerEvent, part: 'value' | 'spread'): void {
    if (event.button !== 0 || typing) return;
    const start = event.clientX;
    const from = part === 'value' ? now : number.spread;
    const gesture = newGesture();
    let moved = false;
    follow(event, {
      move: (e) => {
        const by = e.clientX - start;
        if (!moved && Math.abs(by) < 3) return;
        moved = true;
        desk.shaping = true;
        const speed = e.shiftKey ? 10 : e.altKey ? 0.1 : 1;
        const value = Math.round((from + by * spec.step * speed) / (spec.step * 0.1)) * spec.step * 0.1;
        put(part, part === 'value' ? clamp(Number(value.toFixed(6))) : Number(value.toFixed(6)), gesture);
      },
      up: () => {
        desk.shaping = false;
        if (!moved) type(part);
      },
    });
  }

  function type(part: 'value' | 'spread'): void {
    typing = part;
    wrong = false;
    draft = String(Number((part === 'value' ? now : number.spread).toFixed(6)));
  }

  function finish(keep: boolean): void {
    const part = typing;
    if (!part) return;
    const share = part === 'spread' && draft.trim().endsWith('%');
    const typed = arithmetic(share ? draft.trim().slice(0, -1) : draft);
    const value = share && typed !== null ? Number(((typed / 100) * Math.abs(now)).toFixed(6)) : typed;
    if (keep && value === null) {
      wrong = true;
      return;
    }
    typing = null;
    if (keep && value !== (part === 'value' ? now : number.spread)) put(part, value!);
  }

  function keys(event: KeyboardEvent, part: 'value' | 'spread'): void {
    const sign = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1 }[event.key];
    if (sign) {
      event.preventDefault();
      const by = sign * spec.step * (event.shiftKey ? 10 : event.altKey ? 0.1 : 1);
      const value = Number(((part === 'value' ? now : number.spread) + by).toFixed(6));
      put(part, part === 'value' ? clamp(value) : value);
    } else if (event.key === 'Enter' || /^[-0-9.(]$/.test(event.key)) {
      event.preventDefault();
      type(part);
      if (event.key !== 'Enter') draft = event.key;
    } else if (event.key === 'Backspace' || event.key === 'Delete')
      put(part, part === 'value' ? spec.initial : 0);
  }

  function enter(node: HTMLInputElement): void {
    node.focus();
    node.select();
  }
</script>

{#snippet figure(part: 'value' | 'spread', name: string, text: string)}
  {#if typing === part}
    <input
      class="w-full rounded bg-well px-1 text-right text-word outline-2 {wrong
        ? 'outline-red'
        : 'outline-aurora'}"
      aria-label={name}
      aria-invalid={wrong}
      bind:value={draft}
      use:enter
      onblur={() => finish(true)}
      onkeydown={(e) => {
        e.stopPropagation();
        if (e.key === 'Enter') finish(true);
        if (e.key === 'Escape') finish(false);
      }}
    />
  {:else}
    <div
      role="spinbutton"
      tabindex="0"
      aria-label={name}
      aria-valuenow={part === 'value' ? Number(now.toFixed(4)) : number.spread}
      aria-valuemin={part === 'value' ? spec.low : 0}
      aria-valuemax={spec.high}
      aria-valuetext={`${text} ${spec.unit}`.trim()}
      aria-describedby={helpId}
      class="cursor-ew-resize touch-none rounded px-1 text-right select-none hover:bg-raised"
      class:font-semibold={part === 'value'}
      class:whitespace-nowrap={part === 'spread'}
      class:px-0!={part === 'spread'}
      class:text-[11.5px]={part === 'spread'}
      class:text-dawn={part === 'value' && keyed && !off.includes('keys')}
      class:line-through={(part === 'value' && off.includes('all')) ||
        (part === 'spread' && off.includes('spread'))}
      class:text-soft={part === 'spread' && number.spread === 0}
      onpointerdown={(e) => press(e, part)}
      ondblclick={() => {
        typing = null;
        put(part, part === 'value' ? spec.initial : 0);
      }}
      onkeydown={(e) => keys(e, part)}
    >
      {text}
    </div>
  {/if}
{/snippet}

<div
  class="grid h-[26px] grid-cols-[minmax(0,1fr)_46px_24px_40px_27px] items-center border-b border-line"
  title={hint}
  data-field={path}
  onfocusin={() => (desk.tools.number = path)}
>
  <span class="line-clamp-2 pr-1 leading-[13px]" class:text-red={refused}>{label}</span>
  <span id={helpId} class="hidden">{hint}</span>
  {@render figure('value', label, shown(now))}
  <span class="pl-0.5 text-[11px] whitespace-nowrap text-soft">{spec.unit}</span>
  {#if spec.spread}
    {@render figure('spread', `${label}, variation`, number.spread ? `± ${shown(number.spread)}` : '±')}
  {:else}
    <span></span>
  {/if}
  {#if spec.clock !== 'none'}<Drivers {desk} {label} {path} {number} {spec} />{/if}
</div>
{#if refused}
  <p class="py-1 text-[11.5px] text-red">⚠ {refused}</p>
{/if}
