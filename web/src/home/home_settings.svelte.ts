import type { Sort } from './arrangement';

const stored = 'isbjorn-home';

interface Stored {
  sort?: Sort;
  small?: boolean;
  folded?: Record<string, boolean>;
}

/** How this browser shows the projects: their order, the size of the tiles, and which are folded. */
export class HomeSettings {
  sort = $state<Sort>('opened');
  small = $state(false);
  private folded = $state<Record<string, boolean>>({});

  constructor(private readonly storage: Pick<Storage, 'getItem' | 'setItem'>) {
    try {
      const known = JSON.parse(storage.getItem(stored) ?? '{}') as Stored;
      this.sort = known.sort ?? 'opened';
      this.small = known.small ?? false;
      this.folded = known.folded ?? {};
    } catch {
      /* what cannot be read is as it was at first */
    }
  }

  /** Whether a project is folded; without a choice, those after the first two are. */
  isFolded(project: number, place: number): boolean {
    return this.folded[project] ?? place > 1;
  }

  fold(project: number, yes: boolean): void {
    this.folded = { ...this.folded, [project]: yes };
    this.store();
  }

  set(change: { sort?: Sort; small?: boolean }): void {
    Object.assign(this, change);
    this.store();
  }

  private store(): void {
    const { sort, small, folded } = this;
    this.storage.setItem(stored, JSON.stringify({ sort, small, folded }));
  }
}
