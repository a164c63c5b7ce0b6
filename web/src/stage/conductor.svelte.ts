import type { Trigger } from '../api/client';
import { Line } from '../api/line';

/** Numbers go together that come within so long. */
const TOGETHER_MS = 8;

/** What is to happen on a stage, as it arrives; and the way of this page's own devices to the studio. */
export class Conductor {
  private readonly line: Line;
  private waiting: [string, number][] = [];
  private due: ReturnType<typeof setTimeout> | null = null;
  private polling = 0;
  private pads: Record<string, number> = {};

  constructor(project: number, act: (trigger: Trigger) => void) {
    this.line = new Line(`/api/projects/${project}/triggers`, {
      text: (text) => {
        const message = JSON.parse(text) as Trigger;
        if (message.kind === 'trigger') act(message);
      },
    });
    addEventListener('gamepadconnected', this.poll);
  }

  /** A number of a device of this page; of those that go together only the last does, but that a touch ends never hides that it
   * began. */
  send(address: string, value: number): void {
    const last = [...this.waiting].reverse().find((one) => one[0] === address);
    if (last && last[1] > 0 === value > 0) last[1] = value;
    else this.waiting.push([address, value]);
    this.due ??= setTimeout(() => {
      this.due = null;
      const pending = this.waiting;
      this.waiting = [];
      for (const [address, value] of pending)
        this.line.send(JSON.stringify({ address, value: Number(value.toFixed(5)) }));
    }, TOGETHER_MS);
  }

  /** A piece of what the sound input hears. */
  hear(samples: Int16Array<ArrayBuffer>): void {
    this.line.send(samples);
  }

  /** Gamepads as they are now: `/gamepad/1/axis/1` from -1 to 1, `/gamepad/1/button/1` from 0 to 1. */
  private readonly poll = (): void => {
    cancelAnimationFrame(this.polling);
    if (this.line.closed) return;
    for (const pad of navigator.getGamepads()) {
      if (!pad) continue;
      const known = [
        ...pad.axes.map((value, n) => [`axis/${n + 1}`, value] as const),
        ...pad.buttons.map((button, n) => [`button/${n + 1}`, button.value] as const),
      ];
      for (const [name, value] of known) {
        const address = `/gamepad/${pad.index + 1}/${name}`;
        if (Math.abs((this.pads[address] ?? 0) - value) < 0.002) continue;
        this.pads[address] = value;
        this.send(address, value);
      }
    }
    this.polling = requestAnimationFrame(this.poll);
  };

  close(): void {
    this.line.close();
    cancelAnimationFrame(this.polling);
    removeEventListener('gamepadconnected', this.poll);
  }
}

/** Where a pointer is on the picture of a window, as numbers: 0 to 1 from the left and from below, and whether it is down. */
export function pointed(event: PointerEvent, width: number, height: number, nth: number): [string, number][] {
  const scale = Math.min(innerWidth / width, innerHeight / height);
  const x = 0.5 + (event.clientX - innerWidth / 2) / (width * scale);
  const y = 0.5 - (event.clientY - innerHeight / 2) / (height * scale);
  const own = nth === 0 ? '/pointer' : `/pointer/${nth + 1}`;
  const within = (v: number): number => Math.min(1, Math.max(0, v));
  return [
    [`${own}/x`, within(x)],
    [`${own}/y`, within(y)],
    [`${own}/down`, event.buttons ? 1 : 0],
  ];
}
