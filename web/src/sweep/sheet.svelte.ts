import {
  api,
  got,
  type AxisState,
  type Change,
  type Problem,
  type SheetAsk,
  type SheetAxis,
  type SheetCell,
  type SheetHeader,
  type SheetState,
} from '../api/client';
import { Line, pictured } from '../api/line';
import type { Picture } from '../api/picture';
import { notices } from '../state/notices.svelte';

/** What a socket does for a sheet; tests hand in another one. */
export interface Wire {
  send(text: string): void;
  close(): void;
}

export interface Heard {
  opened(): void;
  text(message: string): void;
  picture(header: SheetHeader, picture: Picture): void;
}

function wired(shot: number, heard: Heard): Wire {
  return new Line(`/api/shots/${shot}/sheet`, {
    opened: () => heard.opened(),
    text: (message) => heard.text(message),
    binary: (data) =>
      void pictured<SheetHeader>(data).then((found) => found && heard.picture(found[0], found[1])),
  });
}

/** Pictures of a loop, where the shot moves. */
export const LOOP = 18;

/** A request, with what it does not say as it is at first. */
export function asked(given: Partial<SheetAsk>): SheetAsk {
  return {
    kind: 'sweep',
    columns: null,
    rows: null,
    count: 3,
    frame: 0,
    width: 300,
    loop: LOOP,
    around: null,
    thing: '',
    locked: [],
    strength: 0.5,
    seed: 1,
    parents: [],
    ...given,
  };
}

/** Keep the state of a cell as a version; what was done, in words. */
export async function keepVersion(shot: number, cell: SheetCell): Promise<string> {
  try {
    const params = { path: { shot_id: shot } };
    const body = { name: cell.label.slice(0, 80), changes: cell.changes as unknown as Change[] };
    await got(api.POST('/api/shots/{shot_id}/versions', { params, body }));
    return `${cell.label} is kept as a version.`;
  } catch (error) {
    notices.trouble(error);
    return '';
  }
}

/** Small moving pictures of many states of a shot: what is asked for, and what of it has arrived. */
export class Sheet {
  state = $state.raw<SheetState | null>(null);
  problem = $state.raw<Problem | null>(null);
  /** Cells that are no valid state of the shot, and why. */
  refused = $state.raw<Record<number, string>>({});
  /** Something was asked for that is not drawn yet. */
  waiting = $state(true);
  /** How many cells have a picture. */
  begun = $state(0);
  /** The pictures of each cell, by their place in the loop. */
  private pictures: (Picture | undefined)[][] = [];
  private readonly wire: Wire;

  constructor(
    shot: number,
    private ask: SheetAsk,
    connect: (shot: number, heard: Heard) => Wire = wired,
  ) {
    this.wire = connect(shot, {
      opened: () => this.send(),
      text: (message) => this.receive(message),
      picture: (header, picture) => this.take(header, picture),
    });
  }

  /** Ask for another sheet. */
  want(change: Partial<SheetAsk>): void {
    this.ask = { ...this.ask, around: null, ...change };
    this.send();
  }

  /** The axes with the ranges that are shown, as they are asked for. */
  get axes(): { columns: SheetAxis; rows: SheetAxis | null } | null {
    if (!this.state?.columns) return null;
    const { columns, rows } = this.state;
    const axis = ({ path, start, end, spacing }: AxisState): SheetAxis => ({
      path,
      start,
      end,
      spacing,
    });
    return { columns: axis(columns), rows: rows && axis(rows) };
  }

  /** What is shown, as it is asked for. */
  get shown(): SheetAsk {
    return { ...this.ask, ...this.axes, around: null };
  }

  /** Narrow both ranges about a cell, or widen them (by > 1). */
  around(cell: SheetCell, by: number): void {
    this.want({
      ...this.axes,
      around: { column: cell.values?.[0] ?? 0, row: cell.values?.[1] ?? null, by },
    });
  }

  /** The picture of a cell at a place of the loop, or one near it. */
  at(cell: number, place: number): Picture | undefined {
    const some = this.pictures[cell];
    return some?.[place] ?? some?.find((one) => one !== undefined);
  }

  close(): void {
    this.wire.close();
    this.forget();
  }

  private send(): void {
    this.waiting = true;
    this.wire.send(JSON.stringify(this.ask));
  }

  private receive(text: string): void {
    const message = JSON.parse(text) as {
      kind: string;
      serial: number;
      cell: number;
      what: string;
      ms: number;
    };
    if (message.kind === 'sheet') {
      this.forget();
      this.problem = null;
      this.refused = {};
      this.begun = 0;
      this.waiting = true;
      this.state = message as unknown as SheetState;
      this.pictures = this.state.cells.map(() => []);
    } else if (message.kind === 'problem') {
      this.problem = message as unknown as Problem;
      this.waiting = false;
    } else if (message.serial === this.state?.serial) {
      if (message.kind === 'refused') this.refused = { ...this.refused, [message.cell]: message.what };
      else if (message.kind === 'done') this.waiting = false;
    }
  }

  private take(header: SheetHeader, picture: Picture): void {
    const some = header.serial === this.state?.serial ? this.pictures[header.cell] : undefined;
    if (!some) {
      picture.close();
      return;
    }
    if (some.length === 0) this.begun++;
    some[header.picture]?.close();
    some[header.picture] = picture;
  }

  private forget(): void {
    for (const some of this.pictures) for (const picture of some) picture?.close();
    this.pictures = [];
  }
}
