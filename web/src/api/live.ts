import type { LiveAsk, LiveHeader, Problem } from './client';
import { Line, pictured } from './line';
import type { Picture } from './picture';

/** How far particles that know of each other are stepped, on their way to the frame that is asked for. */
export interface Run {
  frame: number;
  left_s: number;
}

/** Messages of the live preview. */
export interface Heard {
  picture(header: LiveHeader, picture: Picture): void;
  problem(problem: Problem | null, revision?: number): void;
  computed(ranges: LiveHeader['computed']): void;
  running(run: Run): void;
  connected(yes: boolean): void;
}

/** The live preview of one shot: requests views, confirms each picture, and reconnects when cut off. */
export class Live {
  private readonly line: Line;
  private last: Partial<LiveAsk> | null = null;
  /** The newest that was shown since it was opened. */
  private shown = 0;

  constructor(
    shot: number,
    private readonly heard: Heard,
  ) {
    this.line = new Line(`/api/shots/${shot}/live`, {
      opened: () => {
        heard.connected(true);
        this.shown = 0;
        if (this.last) this.line.send(JSON.stringify(this.last));
      },
      lost: () => heard.connected(false),
      text: (message) => this.receive(message),
      binary: (data) => void this.show(data),
    });
  }

  ask(message: Partial<LiveAsk> & { kind: LiveAsk['kind'] }): void {
    if (message.kind !== 'shown') this.last = message;
    this.line.send(JSON.stringify(message));
  }

  close(): void {
    this.line.close();
  }

  private receive(text: string): void {
    const message = JSON.parse(text) as Run & {
      kind: string;
      ranges: LiveHeader['computed'];
      revision?: number;
    } & Problem;
    if (message.kind === 'computed') this.heard.computed(message.ranges);
    else if (message.kind === 'running') this.heard.running(message);
    else this.heard.problem(message.kind === 'problem' ? message : null, message.revision);
  }

  private async show(data: ArrayBuffer): Promise<void> {
    const shown = await pictured<LiveHeader>(data);
    if (!shown) return this.ask({ kind: 'shown', serial: 0 });
    const [header, picture] = shown;
    this.ask({ kind: 'shown', serial: header.serial });
    // One that was decoded later than its follower is over.
    if (this.line.closed || header.serial < this.shown) picture.close();
    else this.heard.picture(header, picture);
    this.shown = Math.max(this.shown, header.serial);
  }
}
