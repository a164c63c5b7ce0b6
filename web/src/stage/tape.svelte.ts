import tap from './tap.js?url&no-inline';

/** As the studio reads it. */
const RATE = 48_000;

/** The sound input of this machine, for the timecode on it. */
export class Tape {
  on = $state(false);
  private context: AudioContext | null = null;
  private stream: MediaStream | null = null;

  constructor(private readonly send: (samples: Int16Array<ArrayBuffer>) => void) {}

  async toggle(): Promise<void> {
    if (this.on) {
      this.stop();
      return;
    }
    this.on = true;
    try {
      // As it comes: nothing of it is noise to be taken away.
      const audio = { echoCancellation: false, noiseSuppression: false, autoGainControl: false };
      this.stream = await navigator.mediaDevices.getUserMedia({ audio });
      this.context = new AudioContext({ sampleRate: RATE });
      await this.context.audioWorklet.addModule(tap);
      const node = new AudioWorkletNode(this.context, 'tap', { numberOfOutputs: 0 });
      node.port.onmessage = (event: MessageEvent<Int16Array<ArrayBuffer>>) => this.send(event.data);
      this.context.createMediaStreamSource(this.stream).connect(node);
      await this.context.resume();
    } catch (error) {
      this.stop();
      throw error;
    }
  }

  stop(): void {
    this.on = false;
    this.stream?.getTracks().forEach((track) => track.stop());
    void this.context?.close();
    this.stream = this.context = null;
  }
}
