import type { Key } from '../api/client';
import type { Box, Comparison, Followed, List } from './scene_items';

/** A model of the project, as a document names it. */
export interface ChosenModel {
  media: string;
  digest: string;
  name: string;
}

/** What is being done on the picture and the strip, apart from the document. */
export class Tools {
  /** A whole place that was copied; see `places`. */
  placeCopied = $state.raw<Record<string, number> | null>(null);
  guidesOn = $state(true);
  picking = $state<((colour: string) => void) | null>(null);
  /** A region of the plate is to be drawn, in px of the shot. */
  framing = $state<((box: Box) => void) | null>(null);
  /** A picture or movie is to be chosen. */
  choosing = $state<{ title: string; take: (media: string) => void } | null>(null);
  /** A model is to be chosen. */
  choosingModel = $state<((model: ChosenModel) => void) | null>(null);
  comparing = $state<Comparison | null>(null);
  followed = $state.raw<Followed | null>(null);
  solo = $state<{ list: List; back: string[] } | null>(null);
  /** The number whose keys are shown as a graph, by its JSON pointer. */
  graph = $state<string | null>(null);
  /** The number that was used last, by its JSON pointer; and the one whose values are seen side by side. */
  number = $state<string | null>(null);
  sweeping = $state<string | null>(null);
  /** The emitter or group of which other looks are seen. */
  varying = $state<string | null>(null);
  /** Numbers beside the particles, and the particle that was pressed on. */
  inspecting = $state(false);
  recording = $state<string | null>(null);
  copied = $state.raw<Key[]>([]);
}
