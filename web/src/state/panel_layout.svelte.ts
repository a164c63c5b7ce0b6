/** How the screen is divided, as it was left; px. */
const standard = { left: 232, right: 264, low: 252 };
const ends = { left: [190, 420], right: [220, 460], low: [96, 560] } as const;
export type Side = keyof typeof standard;
const NAME = 'isbjorn.room';

const FOLDED = 'isbjorn.folded';

function keptFolds(): Record<Side, boolean> {
  const found = (localStorage.getItem(FOLDED) ?? '').split(' ');
  return { left: found.includes('left'), right: found.includes('right'), low: found.includes('low') };
}

function kept(): typeof standard {
  try {
    const found = JSON.parse(localStorage.getItem(NAME) ?? '{}') as Partial<typeof standard>;
    const fits = (side: Side): number => within(side, Number(found[side] ?? standard[side]));
    return { left: fits('left'), right: fits('right'), low: fits('low') };
  } catch {
    return { ...standard };
  }
}

/** A measure of a side, within what leaves room for the rest. */
export function within(side: Side, px: number): number {
  const [least, most] = ends[side];
  return Math.round(Math.min(most, Math.max(least, Number.isFinite(px) ? px : standard[side])));
}

class PanelLayout {
  sides = $state(kept());
  /** Which sides are folded away, so that the picture has their panelLayout. */
  folded = $state(keptFolds());
  /** The picture alone, without the desk around it. */
  alone = $state(false);

  ends(side: Side): readonly [number, number] {
    return ends[side];
  }

  set(side: Side, px: number): void {
    if (this.folded[side]) this.fold(side, false);
    this.sides[side] = within(side, px);
    localStorage.setItem(NAME, JSON.stringify(this.sides));
  }

  reset(side: Side): void {
    this.set(side, standard[side]);
  }

  /** What a side takes now. */
  px(side: Side): number {
    return this.folded[side] ? 0 : this.sides[side];
  }

  fold(side: Side, on = !this.folded[side]): void {
    this.folded[side] = on;
    const names = (Object.keys(this.folded) as Side[]).filter((one) => this.folded[one]);
    localStorage.setItem(FOLDED, names.join(' '));
  }

  async fullScreen(): Promise<void> {
    if (document.fullscreenElement) await document.exitFullscreen();
    else await document.documentElement.requestFullscreen();
  }
}

export const panelLayout = new PanelLayout();
