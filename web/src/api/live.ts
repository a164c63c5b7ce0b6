import type { LiveAsk, LiveHeader, Problem } from './client';

/** How far particles that know of each other are stepped, on their way to the frame that is asked for. */
export interface Run {
  frame: number;
  left_s: number;
}

/** What the live preview tells. */
export interface Heard {
  picture(header: LiveHeader, picture: ImageBitmap): void;
  problem(problem: Problem | null, revision?: number): void;
  computed(ranges: LiveHeader['computed']): void;
  running(run: Run): void;
  connected(yes: boolean): void;
}

/** The live preview of one shot: says what is to be seen, confirms each picture, and comes back when cut off. */
export class Live {
  private socket: WebSocket | null = null;
  private last: Partial<LiveAsk> | null = null;
  private again: ReturnType<typeof setTimeout> | null = null;
  private closed = false;

  constructor(
    private readonly shot: number,
    private readonly heard: Heard,
  ) {
    this.open();
  }

  ask(message: Partial<LiveAsk> & { kind: LiveAsk['kind'] }): void {
    if (message.kind !== 'shown') this.last = message;
    if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify(message));
  }

  close(): void {
    this.closed = true;
    if (this.again) clearTimeout(this.again);
    this.socket?.close();
  }

  private open(): void {
    const socket = new WebSocket(`ws://${location.host}/api/shots/${this.shot}/live`);
    socket.binaryType = 'arraybuffer';
    socket.onopen = () => {
      this.heard.connected(true);
      if (this.last) socket.send(JSON.stringify(this.last));
    };
    socket.onmessage = (event) => void this.receive(event.data);
    socket.onclose = () => {
      if (this.closed) return;
      this.heard.connected(false);
      this.again = setTimeout(() => this.open(), 700);
    };
    this.socket = socket;
  }

  private async receive(data: ArrayBuffer | string): Promise<void> {
    if (typeof data === 'string') {
      const message = JSON.parse(data) as Run & {
        kind: string;
        ranges: LiveHeader['computed'];
        revision?: number;
      } & Problem;
      if (message.kind === 'computed') {
        this.heard.computed(message.ranges);
        return;
      }
      if (message.kind === 'running') {
        this.heard.running(message);
        return;
      }
      this.heard.problem(message.kind === 'problem' ? message : null, message.revision);
      return;
    }
    const length = new DataView(data).getUint32(0, true);
    const header = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, length))) as LiveHeader;
    const picture = await createImageBitmap(
      new Blob([new Uint8Array(data, 4 + length)], { type: 'image/jpeg' }),
    );
    this.ask({ kind: 'shown', serial: header.serial });
    if (!this.closed) this.heard.picture(header, picture);
  }
}
