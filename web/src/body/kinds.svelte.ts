import { api, got, type BodyKind } from '../api/client';
import { specs } from '../state/specs.svelte';
import { sentence } from '../ui/words';

/** The kinds of bodies that the engine draws, each with its defaults. */
class BodyKinds {
  all = $state.raw<BodyKind[]>([]);
  private asked = false;

  async load(): Promise<void> {
    if (this.asked) return;
    this.asked = true;
    try {
      this.all = await got(api.GET('/api/bodies'));
    } catch (error) {
      this.asked = false;
      throw error;
    }
  }
}

export const bodyKinds = new BodyKinds();

/** How long a body's JSON may be in an address. */
const LONGEST = 15000;

/** The picture of a body, drawn by the engine. */
export function bodyPicture(body: unknown): string {
  const text = JSON.stringify(body);
  // An intricate drawing is longer than an address may be: its kind is shown.
  const short = text.length < LONGEST ? text : JSON.stringify({ kind: (body as { kind: string }).kind });
  return `/api/bodies/picture?side=64&body=${encodeURIComponent(short)}`;
}

/** What a kind of body is called: its model's title, or its own word where a model has several. */
export function titleOf(kind: string): string {
  const own = specs.bodies.find((one) => one.kind === kind);
  const several = specs.bodies.filter((one) => one.model === own?.model).length > 1;
  return own && !several ? own.title : sentence(kind);
}
