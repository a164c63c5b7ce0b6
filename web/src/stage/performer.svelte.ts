import type { Problem, Shot, StageAsk, StageHeader } from '../api/client';
import { framesPerSecond } from '../ui/rates';

/** A shot that is performed: it is stepped by the studio at the clock's pace, and shown as it comes. */
export class Performer {
  frame = $state(0);
  playing = $state(true);
  picture = $state.raw<ImageBitmap | null>(null);
  header = $state.raw<StageHeader | null>(null);
  problem = $state<Problem | null>(null);
  connected = $state(true);
  private socket: WebSocket | null = null;
  private retry: ReturnType<typeof setTimeout> | undefined;
  private width = 0;
  private closed = false;

  constructor(
    private readonly id: number,
    private readonly rounds: boolean,
    private readonly shot: () => Shot | null,
    private readonly hears: { kept: (words: string) => void; changed: () => void },
  ) {}

  get fps(): number {
    const shot = this.shot();
    return shot ? framesPerSecond(shot.rate) : 25;
  }

  /** The moment of the show in shot time; in a loop it comes round. */
  get now(): number {
    const [shot, t] = [this.shot(), this.header?.seconds ?? 0];
    return shot?.loop ? t % ((shot.last_frame - shot.first_frame + 1) / this.fps) : t;
  }

  private say(ask: Partial<StageAsk> & { kind: StageAsk['kind'] }): void {
    if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify(ask));
  }

  size(width: number): void {
    if (width === this.width) return;
    this.width = width;
    if (this.socket) this.say({ kind: 'width', width });
    else this.open();
  }

  play(on: boolean): void {
    this.playing = on;
    this.say({ kind: 'freeze', on: !on });
  }

  /** Begin anew. */
  again(): void {
    this.say({ kind: 'again' });
  }

  /** Keep what was performed as a take of the shot. */
  keep(): void {
    this.say({ kind: 'keep', name: '' });
  }

  close(): void {
    this.closed = true;
    clearTimeout(this.retry);
    this.socket?.close();
  }

  private open(): void {
    const socket = new WebSocket(`ws://${location.host}/api/shots/${this.id}/stage`);
    socket.binaryType = 'arraybuffer';
    socket.onopen = () => {
      this.connected = true;
      this.say({ kind: 'width', width: this.width, rounds: this.rounds });
      if (!this.playing) this.say({ kind: 'freeze', on: true });
    };
    socket.onmessage = (event: MessageEvent<ArrayBuffer | string>) => void this.receive(event.data);
    socket.onclose = () => {
      if (this.closed) return;
      this.connected = false;
      this.retry = setTimeout(() => this.open(), 700);
    };
    this.socket = socket;
  }

  private async receive(data: ArrayBuffer | string): Promise<void> {
    if (typeof data === 'string') {
      const told = JSON.parse(data) as { kind: string; words?: string } & Problem;
      if (told.kind === 'problem') this.problem = told;
      if (told.kind === 'kept') this.hears.kept(told.words ?? '');
      if (told.kind === 'kept' || told.kind === 'anew') this.hears.changed();
      return;
    }
    const length = new DataView(data).getUint32(0, true);
    const header = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, length))) as StageHeader;
    const jpeg = new Blob([new Uint8Array(data, 4 + length)], { type: 'image/jpeg' });
    const picture = await createImageBitmap(jpeg);
    if (this.closed) return;
    this.picture?.close();
    this.picture = picture;
    this.header = header;
    this.frame = Math.round(header.frame);
    this.problem = null;
    // Confirmed when the browser has drawn it.
    requestAnimationFrame(() => this.say({ kind: 'shown', serial: header.serial }));
  }
}
