import { api, got, type Shot, type Wave } from '../api/client';
import { notices } from './notices.svelte';

/** Pictures arrive when they are drawn: largest offset in seconds between sound and picture before the sound is corrected. */
const APART_S = 0.02;
const LOOKS = 6;

/** What plays: whether it does, at which shot time, at how many frames a second. */
export interface Plays {
  readonly playing: boolean;
  readonly now: number;
  readonly fps: number;
}

/** Hears a shot while it plays, and knows its sounds' waveforms. */
class Listening {
  waves = $state<Record<string, Wave>>({});
  muted = $state(false);
  private asked: Record<string, string> = {};
  private context: AudioContext | null = null;
  private buffer: AudioBuffer | null = null;
  private bufferOf = '';
  private source: AudioBufferSourceNode | null = null;
  private gain: GainNode | null = null;
  /** The context's time at which shot time 0 is heard. */
  private zero = 0;
  private apart: number[] = [];
  /** How far sound and picture were apart, in seconds, as a median of the last looks. */
  drift = $state<number | null>(null);

  /** What the waveform of a sound, and all that is heard, depend on. */
  private static keyOf(shot: Shot): string {
    const sounds = shot.sounds.map((one) => [
      one.digest,
      one.on,
      one.of_plate,
      one.offset_s,
      one.gain_db,
      one.heard,
    ]);
    const plate = shot.plate && [shot.plate.media, shot.plate.offset_s, shot.plate.on, shot.plate.beyond];
    return JSON.stringify([sounds, plate, shot.rate, shot.first_frame, shot.last_frame]);
  }

  /** Know the waveforms of a shot's sounds. */
  look(id: number, shot: Shot): void {
    const key = Listening.keyOf(shot);
    for (const sound of shot.sounds) {
      if (this.asked[sound.id] === key) continue;
      this.asked[sound.id] = key;
      const path = { shot_id: id, sound_id: sound.id };
      void got(api.GET('/api/shots/{shot_id}/sounds/{sound_id}/wave', { params: { path } })).then(
        (wave) => (this.waves[sound.id] = wave),
        (error) => {
          delete this.asked[sound.id];
          notices.trouble(error);
        },
      );
    }
  }

  /** Load the sound of a shot, if it has changed. */
  private async load(id: number, shot: Shot): Promise<void> {
    const key = `${id} ${Listening.keyOf(shot)}`;
    if (key === this.bufferOf) return;
    this.bufferOf = key;
    this.buffer = null;
    try {
      const answer = await fetch(`/api/shots/${id}/audio`);
      if (answer.status !== 200) return;
      this.context ??= new AudioContext({ latencyHint: 'interactive' });
      const buffer = await this.context.decodeAudioData(await answer.arrayBuffer());
      if (key === this.bufferOf) this.buffer = buffer;
    } catch {
      this.bufferOf = '';
    }
  }

  /** A picture of a frame is on the screen, while it plays or at rest: the sound goes with it. */
  picture(id: number, shot: Shot, player: Plays): void {
    if (!player.playing || this.muted || shot.sounds.length === 0) {
      this.stop();
      return;
    }
    void this.load(id, shot);
    if (!this.buffer || !this.context) return;
    if (this.context.state === 'suspended') void this.context.resume();
    const now = player.now;
    if (!this.source) {
      this.start(now);
      return;
    }
    const apart = this.context.currentTime - this.zero - now;
    // After a jump, as at the end of the range, at once; otherwise by the usual tolerance.
    if (Math.abs(apart) > 0.25) {
      this.start(now);
      return;
    }
    this.apart.push(apart);
    if (this.apart.length < LOOKS) return;
    const drift = [...this.apart].sort((a, b) => a - b)[LOOKS >> 1]!;
    this.drift = drift;
    this.apart = [];
    if (Math.abs(drift) > Math.max(APART_S, 0.5 / player.fps)) this.start(now);
  }

  private start(now: number): void {
    this.stop();
    if (!this.context || !this.buffer || now < 0 || now >= this.buffer.duration) return;
    this.gain = this.context.createGain();
    this.gain.connect(this.context.destination);
    // Come in over some milliseconds: a cut is a click.
    this.gain.gain.setValueAtTime(0, this.context.currentTime);
    this.gain.gain.linearRampToValueAtTime(1, this.context.currentTime + 0.006);
    this.source = this.context.createBufferSource();
    this.source.buffer = this.buffer;
    this.source.connect(this.gain);
    this.source.start(0, now);
    this.zero = this.context.currentTime - now;
    this.apart = [];
  }

  stop(): void {
    if (!this.source || !this.context || !this.gain) return;
    const end = this.context.currentTime + 0.006;
    this.gain.gain.setTargetAtTime(0, this.context.currentTime, 0.002);
    this.source.stop(end);
    this.source = null;
    this.apart = [];
  }

  /** Where the sound is, in shot time; null while nothing is heard. */
  get now(): number | null {
    return this.source && this.context ? this.context.currentTime - this.zero : null;
  }
}

export const listening = new Listening();
