import type { Problem, Shot, StageAsk, StageHeader } from '../api/client';
import { Line, pictured } from '../api/line';
import type { Picture } from '../api/picture';
import { framesPerSecond } from '../ui/rates';

/** A shot that is performed: it is stepped by the studio at the clock's pace, and shown as it comes. */
export class Performer {
  frame = $state(0);
  playing = $state(true);
  picture = $state.raw<Picture | null>(null);
  header = $state.raw<StageHeader | null>(null);
  problem = $state<Problem | null>(null);
  connected = $state(true);
  private line: Line | null = null;
  private width = 0;

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
    this.line?.send(JSON.stringify(ask));
  }

  size(width: number): void {
    if (width === this.width) return;
    this.width = width;
    if (this.line) this.say({ kind: 'width', width });
    else this.line = this.open();
  }

  play(on: boolean): void {
    this.playing = on;
    this.say({ kind: 'freeze', on: !on });
  }

  /** Restart. */
  again(): void {
    this.say({ kind: 'again' });
  }

  /** Keep what was performed as a take of the shot. */
  keep(): void {
    this.say({ kind: 'keep', name: '' });
  }

  close(): void {
    this.line?.close();
  }

  private open(): Line {
    return new Line(`/api/shots/${this.id}/stage`, {
      opened: () => {
        this.connected = true;
        this.say({ kind: 'width', width: this.width, rounds: this.rounds });
        if (!this.playing) this.say({ kind: 'freeze', on: true });
      },
      lost: () => (this.connected = false),
      text: (text) => this.receive(text),
      binary: (data) => void this.show(data),
    });
  }

  private receive(text: string): void {
    const message = JSON.parse(text) as { kind: string; words?: string } & Problem;
    if (message.kind === 'problem') this.problem = message;
    if (message.kind === 'kept') this.hears.kept(message.words ?? '');
    if (message.kind === 'kept' || message.kind === 'restarted') this.hears.changed();
  }

  private async show(data: ArrayBuffer): Promise<void> {
    const shown = await pictured<StageHeader>(data);
    if (!shown) return this.say({ kind: 'shown', serial: 0 });
    const [header, picture] = shown;
    if (this.line?.closed) return;
    this.picture?.close();
    this.picture = picture;
    this.header = header;
    this.frame = Math.round(header.frame);
    this.problem = null;
    // Confirmed when the browser has drawn it.
    requestAnimationFrame(() => this.say({ kind: 'shown', serial: header.serial }));
  }
}
