/**
 * Playback on the audio thread: blocks of samples, the compiled gain, the fader and the monitor limiter.
 *
 * The path is that of the product: recording -> pre-fader gain -> fader -> limiter -> out. Gain arrives as points of
 * samples and dB, linear in dB between them; it is only applied here. What the hand is doing is a line
 * of its own, added until the compiled gain that has it arrives. A new gain, and Before / After, are reached within
 * 5 ms, so nothing clicks. Where nothing limits, the limiter is a pure delay.
 */
declare const sampleRate: number;
declare const currentTime: number;
declare function registerProcessor(name: string, processor: unknown): void;
declare class AudioWorkletProcessor {
  readonly port: MessagePort;
}

export interface GainPoints {
  at: Float64Array;
  db: Float64Array;
}
export type ToWorklet =
  | { type: "format"; channels: number; frames: number; blockFrames: number }
  | { type: "block"; index: number; data: Float32Array }
  | { type: "keep"; first: number; last: number }
  | { type: "gain"; points: GainPoints }
  | { type: "hold"; points: GainPoints }
  | { type: "play"; from: number; to: number; loopFrom: number | null }
  | { type: "loop"; from: number | null; to: number }
  | { type: "stop" }
  | { type: "switch"; after: boolean }
  | { type: "fader"; db: number };
export type FromWorklet = { type: "at"; position: number; time: number; playing: boolean; starving: boolean };

const DB = Math.LN10 / 20;
/** Gain at and below which nothing is heard at all. */
const SILENCE = -120;
const DECLICK = 0.005;
const LOOK_AHEAD = 64;
const CEILING = 10 ** (-1 / 20);
const RELEASE = 0.15;
const REPORT_EVERY = 6;

const NOTHING: GainPoints = { at: new Float64Array(0), db: new Float64Array(0) };

/** Reads a piecewise linear curve forwards; looking back costs a search. */
class Walker {
  private i = 0;
  constructor(readonly points: GainPoints) {}

  at(position: number): number {
    const { at, db } = this.points;
    const n = at.length;
    if (n === 0) return 0;
    if (this.i > 0 && at[this.i - 1]! > position) this.i = 0;
    if (this.i + 8 < n && at[this.i + 8]! <= position) {
      let low = this.i;
      let high = n;
      while (low < high) {
        const middle = (low + high) >> 1;
        if (at[middle]! <= position) low = middle + 1;
        else high = middle;
      }
      this.i = low;
    }
    while (this.i < n && at[this.i]! <= position) this.i++;
    if (this.i === 0) return db[0]!;
    if (this.i === n) return db[n - 1]!;
    const left = at[this.i - 1]!;
    const a = db[this.i - 1]!;
    const b = db[this.i]!;
    return a === b ? a : a + ((b - a) * (position - left)) / (at[this.i]! - left);
  }
}

/** Holds the output under the ceiling: gain falls ahead of a peak and comes back slowly. */
class Limiter {
  private readonly delay: Float32Array[];
  private readonly need = new Float32Array(LOOK_AHEAD * 2).fill(1);
  private readonly window = new Float32Array(LOOK_AHEAD).fill(1);
  private at = 0;
  private held = 1;
  private quiet = LOOK_AHEAD * 3;
  private readonly back = 1 - Math.exp(-1 / (RELEASE * sampleRate));

  constructor(channels: number) {
    this.delay = Array.from({ length: channels }, () => new Float32Array(LOOK_AHEAD * 2));
  }

  run(frame: Float32Array): void {
    const size = LOOK_AHEAD * 2;
    let peak = 0;
    for (let c = 0; c < frame.length; c++) peak = Math.max(peak, Math.abs(frame[c]!));
    const wanted = peak > CEILING ? CEILING / peak : 1;
    const now = this.at % size;
    this.need[now] = wanted;
    this.quiet = wanted < 1 ? 0 : this.quiet + 1;
    let gain = 1;
    if (this.quiet < LOOK_AHEAD * 3 || this.held < 0.99999) {
      // lowest need of the look-ahead, held and let go slowly, then averaged over as long: it arrives in time, without a step
      let lowest = 1;
      for (let i = 0; i <= LOOK_AHEAD; i++) lowest = Math.min(lowest, this.need[(now - i + size) % size]!);
      this.held = Math.min(lowest, this.held + (1 - this.held) * this.back);
      this.window[this.at % LOOK_AHEAD] = this.held;
      let sum = 0;
      for (const value of this.window) sum += value;
      gain = sum / LOOK_AHEAD;
    } else {
      this.held = 1;
      this.window[this.at % LOOK_AHEAD] = 1;
    }
    const old = (now - LOOK_AHEAD + 1 + size) % size;
    for (let c = 0; c < frame.length; c++) {
      const line = this.delay[c]!;
      line[now] = frame[c]!;
      frame[c] = line[old]! * gain;
    }
    this.at++;
  }
}

class Player extends AudioWorkletProcessor {
  private channels = 1;
  private frames = 0;
  private blockFrames = 48000;
  private blocks = new Map<number, Float32Array>();
  private position = 0;
  private end = 0;
  private loopFrom: number | null = null;
  private playing = false;
  private starving = false;
  private gain = new Walker(NOTHING);
  private oldGain: Walker | null = null;
  private swap = 1;
  private hold = new Walker(NOTHING);
  private held = 0;
  private oldHeld = 0;
  private after = 1;
  private afterGoal = 1;
  private fader = 0;
  private faderGoal = 0;
  private fade = 0;
  private stopping = false;
  private next: Extract<ToWorklet, { type: "play" }> | null = null;
  private limiter = new Limiter(1);
  private report = 0;

  constructor() {
    super();
    this.port.onmessage = (event: MessageEvent<ToWorklet>) => this.hear(event.data);
  }

  private hear(message: ToWorklet) {
    switch (message.type) {
      case "format":
        this.channels = message.channels;
        this.frames = message.frames;
        this.blockFrames = message.blockFrames;
        this.blocks.clear();
        this.playing = false;
        this.limiter = new Limiter(message.channels);
        break;
      case "block":
        this.blocks.set(message.index, message.data);
        break;
      case "keep":
        for (const index of this.blocks.keys()) {
          const loopBlock = this.loopFrom === null ? -1 : Math.floor(this.loopFrom / this.blockFrames);
          if ((index < message.first || index > message.last) && index !== loopBlock && index !== loopBlock + 1)
            this.blocks.delete(index);
        }
        break;
      case "gain":
        // what the hand added is in the new gain: both change over together
        this.oldHeld = this.held;
        this.held = 0;
        this.hold = new Walker(NOTHING);
        this.oldGain = this.playing ? this.gain : null;
        this.gain = new Walker(message.points);
        this.swap = this.oldGain ? 0 : 1;
        break;
      case "hold":
        this.hold = new Walker(message.points);
        if (!this.playing) this.held = 0;
        break;
      case "play":
        // what sounds fades out before it jumps
        if (this.playing && this.fade > 0 && !this.starving) {
          this.next = message;
          this.stopping = true;
        } else this.begin(message);
        break;
      case "loop":
        this.loopFrom = message.from;
        this.end = Math.min(message.to, this.frames);
        break;
      case "stop":
        this.next = null;
        if (this.playing && !this.starving) this.stopping = true;
        else this.halt();
        break;
      case "switch":
        this.afterGoal = message.after ? 1 : 0;
        if (!this.playing) this.after = this.afterGoal;
        break;
      case "fader":
        this.faderGoal = message.db;
        if (!this.playing) this.fader = message.db;
        break;
    }
  }

  private begin(message: Extract<ToWorklet, { type: "play" }>) {
    this.position = message.from;
    this.end = Math.min(message.to, this.frames);
    this.loopFrom = message.loopFrom;
    this.playing = true;
    this.stopping = false;
    this.next = null;
    this.fade = 0;
  }

  private halt() {
    this.playing = false;
    this.stopping = false;
    this.fade = 0;
    if (this.next) this.begin(this.next);
    this.tell();
  }

  private tell() {
    this.port.postMessage({
      type: "at",
      position: this.position,
      time: currentTime,
      playing: this.playing,
      starving: this.starving,
    } satisfies FromWorklet);
  }

  process(_: Float32Array[][], outputs: Float32Array[][]): boolean {
    const out = outputs[0]!;
    const length = out[0]!.length;
    const step = 1 / (DECLICK * sampleRate);
    const frame = new Float32Array(this.channels);
    for (let i = 0; i < length; i++) {
      frame.fill(0);
      this.take(frame, step);
      this.limiter.run(frame);
      for (let c = 0; c < out.length; c++) out[c]![i] = frame[Math.min(c, this.channels - 1)]!;
    }
    if (++this.report % REPORT_EVERY === 0 && this.playing) this.tell();
    return true;
  }

  /** The next frame of the recording with gain and fader, into ``frame``; silence while nothing is to be played. */
  private take(frame: Float32Array, step: number) {
    if (!this.playing) return;
    // starting, stopping and jumping back in a loop fade within the de-click time as well
    this.fade = this.stopping ? Math.max(0, this.fade - step) : Math.min(1, this.fade + step);
    if (this.stopping && this.fade === 0) return this.halt();
    if (this.position >= this.end) {
      if (this.loopFrom === null) return this.halt();
      this.position = this.loopFrom;
      this.fade = 0;
    }
    const index = Math.floor(this.position / this.blockFrames);
    const block = this.blocks.get(index);
    this.starving = !block;
    if (!block) return;
    let level = this.gain.at(this.position);
    this.held = approach(this.held, this.hold.at(this.position), step * 24);
    level += this.held;
    if (this.oldGain) {
      this.swap = Math.min(1, this.swap + step);
      level = level * this.swap + (this.oldGain.at(this.position) + this.oldHeld) * (1 - this.swap);
      if (this.swap === 1) this.oldGain = null;
    }
    this.after = approach(this.after, this.afterGoal, step);
    this.fader = approach(this.fader, this.faderGoal, step * 24);
    const total = level * this.after + this.fader;
    const amplitude = total === 0 ? 1 : total <= SILENCE ? 0 : Math.exp(total * DB);
    const factor = amplitude * Math.min(this.fade, (this.end - this.position) * step);
    const at = (this.position - index * this.blockFrames) * this.channels;
    for (let c = 0; c < this.channels; c++) frame[c] = (block[at + c] ?? 0) * factor;
    this.position++;
  }
}

/** One step of a value on its way to a goal. */
function approach(value: number, goal: number, step: number): number {
  return value < goal ? Math.min(goal, value + step) : Math.max(goal, value - step);
}

registerProcessor("nivelus-player", Player);
