/** Hands on what a sound input hears: samples of 16 bits, some milliseconds at a time. */
const AT_ONCE = 1024;

class Tap extends AudioWorkletProcessor {
  held = new Int16Array(AT_ONCE);
  count = 0;

  process(inputs) {
    const samples = inputs[0]?.[0];
    if (!samples) return true;
    for (const sample of samples) {
      this.held[this.count++] = Math.max(-1, Math.min(1, sample)) * 32767;
      if (this.count < AT_ONCE) continue;
      this.port.postMessage(this.held.slice());
      this.count = 0;
    }
    return true;
  }
}

registerProcessor('tap', Tap);
