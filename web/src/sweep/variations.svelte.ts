import type { SheetAsk, SheetCell } from '../api/client';

export type Look = Record<string, number>;

/** One sheet of variations: where they come from, and what they were drawn by. */
interface Step {
  parents: Look[];
  seed: number;
}

/** The way through variations: each sheet has a look in its middle, and can be walked back to. The shot stays as it is meanwhile. */
export class Variations {
  strength = $state(0.5);
  locked = $state<string[]>([]);
  /** Two looks that are to be bred, at most. */
  marked = $state<Look[]>([]);
  private steps = $state.raw<Step[]>([{ parents: [], seed: 1 }]);
  private place = $state(0);

  /** What to ask for now. */
  get asked(): Pick<SheetAsk, 'parents' | 'seed' | 'strength' | 'locked'> {
    const { parents, seed } = this.steps[this.place]!;
    return { parents, seed, strength: this.strength, locked: this.locked };
  }

  /** The look in the middle. */
  get look(): Look {
    return this.steps[this.place]!.parents[0] ?? {};
  }

  get canGoBack(): boolean {
    return this.place > 0;
  }

  get canGoForward(): boolean {
    return this.place < this.steps.length - 1;
  }

  back(): void {
    if (this.canGoBack) this.place--;
  }

  forward(): void {
    if (this.canGoForward) this.place++;
  }

  /** Go on from a look: it is in the middle of the next sheet. */
  from(cell: Pick<SheetCell, 'look'>): void {
    this.go([cell.look ?? {}]);
  }

  /** Reject all of this sheet: others of the same look. */
  others(): void {
    this.go(this.steps[this.place]!.parents);
  }

  /** Mark a look to be bred with another one; a second time, it is not marked any more. */
  mark(cell: Pick<SheetCell, 'look'>): void {
    const look = cell.look ?? {};
    this.marked = this.isMarked(look)
      ? this.marked.filter((one) => !same(one, look))
      : [...this.marked.slice(-1), look];
  }

  isMarked(look: Look): boolean {
    return this.marked.some((one) => same(one, look));
  }

  /** Children of the two that are marked. */
  breed(): void {
    if (this.marked.length === 2) this.go(this.marked);
  }

  lock(path: string, yes: boolean): void {
    this.locked = yes ? [...this.locked, path] : this.locked.filter((one) => one !== path);
  }

  private go(parents: Look[]): void {
    const seed = Math.max(...this.steps.map((one) => one.seed)) + 1;
    this.steps = [...this.steps.slice(0, this.place + 1), { parents, seed }];
    this.place++;
    this.marked = [];
  }
}

function same(a: Look, b: Look): boolean {
  const keys = Object.keys(a);
  return keys.length === Object.keys(b).length && keys.every((key) => a[key] === b[key]);
}
