import { decoded, type Picture } from './picture';

/** What comes of a socket. */
export interface Hears {
  opened?(): void;
  /** It was cut off, and is opened again. */
  lost?(): void;
  text?(message: string): void;
  binary?(data: ArrayBuffer): void;
}

const AGAIN_MS = 700;

/** A socket of the studio that is opened again when it was cut off. */
export class Line {
  private socket: WebSocket | null = null;
  private again: ReturnType<typeof setTimeout> | undefined;
  closed = false;
  /** The page is in the browser's back-forward cache: it needs no connection until it is shown again. */
  private away = false;

  constructor(
    private readonly path: string,
    private readonly hears: Hears,
  ) {
    this.open();
    addEventListener('pagehide', this.leave);
    addEventListener('pageshow', this.back);
  }

  /** Send a message; one sent while the connection is lost is dropped. */
  send(what: string | Int16Array<ArrayBuffer>): void {
    if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(what);
  }

  close(): void {
    this.closed = true;
    clearTimeout(this.again);
    this.socket?.close();
    removeEventListener('pagehide', this.leave);
    removeEventListener('pageshow', this.back);
  }

  private readonly leave = (): void => {
    this.away = true;
    clearTimeout(this.again);
    this.socket?.close();
  };

  private readonly back = (): void => {
    if (!this.away) return;
    this.away = false;
    this.hears.lost?.();
    this.open();
  };

  private open(): void {
    const socket = new WebSocket(`ws://${location.host}${this.path}`);
    socket.binaryType = 'arraybuffer';
    socket.onopen = () => this.hears.opened?.();
    socket.onmessage = (event: MessageEvent<ArrayBuffer | string>) => {
      if (typeof event.data === 'string') this.hears.text?.(event.data);
      else this.hears.binary?.(event.data);
    };
    socket.onclose = () => {
      if (this.closed || this.away) return;
      this.hears.lost?.();
      this.again = setTimeout(() => this.open(), AGAIN_MS);
    };
    this.socket = socket;
  }
}

/**
 * A picture message: the length of its header (4 bytes, little endian), the header as JSON, a JPEG. Null where it cannot be
 * decoded: confirm it all the same, as serial 0, because the studio waits for the word of two at most.
 */
export async function pictured<Header>(data: ArrayBuffer): Promise<[Header, Picture] | null> {
  try {
    const length = new DataView(data).getUint32(0, true);
    const header = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, length))) as Header;
    return [header, await decoded(new Uint8Array(data, 4 + length))];
  } catch {
    return null;
  }
}
