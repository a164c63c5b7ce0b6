import type { Component } from 'svelte';
import type { Desk } from '../state/desk.svelte';
import type { Field } from '../state/specs.svelte';

/** What every control of a field gets. path: JSON pointer of the part that has the field. */
export interface ControlProps {
  desk: Desk;
  field: Field;
  owner: object;
  path: string;
}

/** Controls by the names in the schema (`shown_as`); `special_controls.ts` fills it, so that fields know none of them. */
export const controls: Record<string, Component<ControlProps>> = {};
