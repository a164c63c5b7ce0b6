import type { Problem, SheetAsk, SheetAxis, SheetCell, SheetHeader, SheetState } from '../api/client';
import { Line, pictured } from '../api/line';
import type { Picture } from '../api/picture';

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

/** Small moving pictures of many states of a shot: what is asked for, and what of it has arrived. */
export class Sheet {
  state = $state.raw<SheetState | null>(null);
  problem = $state.raw<Problem | null>(null);
  /** Cells that are no valid state of the shot, and why. */
  refused = $state.raw<Record<number, string>>({});
  /** How many cells have a picture. */
  begun = $state(0);
  /** Milliseconds until everything was drawn; null while it is being drawn. */
  ms = $state<number | null>(null);
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
    if (!this.state) return null;
    const { columns, rows } = this.state;
    const axis = ({ path, start, end, spacing }: SheetState['columns']): SheetAxis => ({
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
      around: { column: cell.values[0]!, row: cell.values[1] ?? null, by },
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
      this.ms = null;
      this.state = message as unknown as SheetState;
      this.pictures = this.state.cells.map(() => []);
    } else if (message.kind === 'problem') {
      this.problem = message as unknown as Problem;
    } else if (message.serial === this.state?.serial) {
      if (message.kind === 'refused') this.refused = { ...this.refused, [message.cell]: message.what };
      else if (message.kind === 'done') this.ms = message.ms;
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
