<script lang="ts">
  import { SvelteMap } from 'svelte/reactivity';
  import type { SetEntry, SetList } from '../api/client';
  import NumberBox from '../deliver/NumberBox.svelte';
  import Choice from '../fields/Choice.svelte';
  import Icon from '../ui/Icon.svelte';
  import { sentence } from '../ui/words';
  import { learn } from './learn.svelte';

  /** The set list: what comes onto the stage, how it fades, and what brings it. */
  interface Props {
    set: SetList;
    names: SvelteMap<number, string>;
    now: number;
    onset: (set: SetList) => void;
    onbring: (shot: number) => void;
  }
  let { set, names, now, onset, onbring }: Props = $props();
  type Action = 'next' | 'previous' | 'black' | 'freeze' | 'again';
  const actions: [Action, string][] = [
    ['next', 'Next shot'],
    ['previous', 'Previous shot'],
    ['black', 'Black'],
    ['freeze', 'Freeze'],
    ['again', 'Restart'],
  ];
  const ways = ['as it suits', 'performed', 'performed, in rounds', 'over and over'].map((value) => ({
    value,
    label: sentence(value),
  }));
  const widths = [0, 640, 960, 1280, 1920, 2560, 3840].map((value) => ({
    value: String(value),
    label: value ? `${value} px wide` : 'Window width',
  }));
  const missing = $derived([...names.keys()].filter((id) => !set.entries.some((one) => one.shot === id)));

  function change(at: number, entry: Partial<SetEntry>): void {
    onset({ ...set, entries: set.entries.map((one, i) => (i === at ? { ...one, ...entry } : one)) });
  }
  function move(at: number, by: number): void {
    const entries = [...set.entries];
    entries.splice(at + by, 0, ...entries.splice(at, 1));
    onset({ ...set, entries });
  }
</script>

<aside
  class="absolute inset-y-0 right-0 w-[400px] max-w-full overflow-y-auto border-l border-line bg-ground/92 px-4 py-3"
  aria-label="Set list"
  data-set={set.entries.length}
>
  <h2 class="pb-1 text-[15px] font-semibold text-word">Set list</h2>
  <ol>
    {#each set.entries as entry, at (`${entry.shot} ${at}`)}
      {@const target = `shot ${at}`}
      <li
        class="border-b border-line py-1.5"
        {@attach (li: HTMLElement) => {
          if (entry.shot === now) li.scrollIntoView({ block: 'nearest' });
        }}
      >
        <div class="flex items-center gap-2">
          <span class="w-5 text-right text-soft tabular-nums">{at + 1}</span>
          <button
            class="min-w-0 flex-1 truncate text-left font-semibold {entry.shot === now
              ? 'text-aurora'
              : 'text-word hover:text-aurora'}"
            onclick={() => onbring(entry.shot)}>{names.get(entry.shot) ?? entry.shot}</button
          >
          <button class="quiet" aria-label="Earlier" disabled={at === 0} onclick={() => move(at, -1)}
            ><Icon name="up" size={13} /></button
          >
          <button
            class="quiet"
            aria-label="Later"
            disabled={at === set.entries.length - 1}
            onclick={() => move(at, 1)}><Icon name="down" size={13} /></button
          >
          <button
            class="quiet"
            aria-label="Remove"
            disabled={set.entries.length === 1}
            onclick={() => onset({ ...set, entries: set.entries.filter((_, i) => i !== at) })}
            ><Icon name="close" size={13} /></button
          >
        </div>
        <div class="grid grid-cols-[4.2rem_1fr_1fr] items-end gap-2 pt-1 pl-7 text-[12px]">
          <NumberBox
            label="Fade (s)"
            value={entry.fade_s}
            low={0}
            high={30}
            onset={(fade_s) => change(at, { fade_s })}
          />
          <div>
            <Choice
              row={false}
              label="Playback"
              value={entry.plays}
              items={ways}
              onset={(plays) => change(at, { plays: plays as SetEntry['plays'] })}
            />
          </div>
          <button
            class="button h-7! min-w-0 px-2! text-[11.5px] {entry.address ? 'text-ice!' : ''}"
            title="A pad, a key or an address that brings it{entry.address
              ? '; press twice to forget it'
              : ''}"
            aria-pressed={learn.target === target}
            onclick={() => {
              if (learn.target === target) change(at, { address: '' });
              learn.begin(target, (address) => change(at, { address }));
            }}
            ><span class="truncate"
              >{learn.target === target ? 'Touch it now …' : entry.address || 'Learn'}</span
            ></button
          >
        </div>
      </li>
    {/each}
  </ol>
  {#if missing.length}
    <div class="flex flex-wrap gap-1.5 py-2">
      {#each missing as id (id)}
        <button
          class="button h-6! px-2! text-[11.5px]"
          onclick={() =>
            onset({
              ...set,
              entries: [...set.entries, { shot: id, fade_s: 1, plays: 'as it suits', address: '' }],
            })}>+ {names.get(id)}</button
        >
      {/each}
    </div>
  {/if}
  <h2 class="pt-3 pb-1 font-semibold text-word">Triggers</h2>
  {#each actions as [act, label] (act)}
    <div class="flex h-8 items-center gap-2 border-b border-line">
      <span class="w-24">{label}</span>
      <code class="min-w-0 flex-1 truncate text-[11.5px] text-soft">/stage/{act}</code>
      <button
        class="button h-6! max-w-36 min-w-0 px-2! text-[11.5px] {set.addresses[act] ? 'text-ice!' : ''}"
        aria-pressed={learn.target === act}
        onclick={() => {
          if (learn.target === act) onset({ ...set, addresses: { ...set.addresses, [act]: '' } });
          learn.begin(act, (address) => onset({ ...set, addresses: { ...set.addresses, [act]: address } }));
        }}
        ><span class="truncate"
          >{learn.target === act ? 'Touch it now …' : set.addresses[act] || 'Learn'}</span
        ></button
      >
    </div>
  {/each}
  <div class="pt-3">
    <Choice
      label="Pictures"
      value={String(set.width)}
      items={widths}
      onset={(width) => onset({ ...set, width: Number(width) })}
    />
  </div>
  <p class="pt-3 leading-snug text-soft">
    Shots whose controls have learned an input run live, without end. Others repeat. <code>/stage/shot 3</code
    > brings the third.
  </p>
</aside>
