/**
 * One track on the audio thread: its blocks of samples, its compiled gain, what the compressor would do, its fader, and
 * whether it is heard. Whatever is switched or edited is reached within 5 ms, so nothing clicks.
 */
import type { Rider } from "./rider";
import { approach, type GainPoints, NOTHING, Walker } from "./walker";

const DB = Math.LN10 / 20;
/** Gain at and below which nothing is heard at all. */
const SILENCE = -120;
/** Samples between two values of the reduction. */
export const LOAD_STEP = 64;

/** Reduction in dB every LOAD_STEP samples from number ``first`` on: pairs of the recording as it is, and with its gain. */
export interface Reduction {
  first: number;
  pairs: Float32Array;
}

export class Voice {
  private blocks = new Map<number, Float32Array>();
  private loads = new Map<number, Reduction>();
  private gain = new Walker(NOTHING);
  private oldGain: Walker | null = null;
  private swap = 1;
  private hold = new Walker(NOTHING);
  /** What lies over the gain now; NaN where it is there at once. */
  private held = Number.NaN;
  private oldHeld = 0;
  private after = 1;
  private afterGoal = 1;
  private fader = 0;
  private faderGoal = 0;
  private heard = 1;
  private heardGoal = 1;
  private load = 0;
  private loadGoal = 0;
  /** 1 where the gain comes after the compressor, which then works on the recording as it is. */
  private behind = 0;
  private behindGoal = 0;
  /** The hand that rides this track, if one does. */
  rider: Rider | null = null;
  private lastDb = Number.NaN;
  private lastFactor = 1;

  constructor(
    readonly channels: number,
    readonly frames: number,
    readonly blockFrames: number,
  ) {}

  setBlock(index: number, data: Float32Array): void {
    this.blocks.set(index, data);
  }

  setLoad(index: number, load: Reduction): void {
    this.loads.set(index, load);
  }

  keep(first: number, last: number, loop: number): void {
    for (const index of this.blocks.keys()) {
      if ((index >= first && index <= last) || index === loop || index === loop + 1) continue;
      this.blocks.delete(index);
      this.loads.delete(index);
    }
  }

  /** Another gain, and what lies over it: whatever of the hand is in the one is not in the other, so both change at once. */
  setGain(points: GainPoints, held: GainPoints, playing: boolean): void {
    this.oldHeld = Number.isNaN(this.held) ? 0 : this.held;
    this.held = Number.NaN;
    this.hold = new Walker(held);
    this.oldGain = playing ? this.gain : null;
    this.gain = new Walker(points);
    this.swap = this.oldGain ? 0 : 1;
  }

  setHold(points: GainPoints, playing: boolean): void {
    this.hold = new Walker(points);
    if (!playing) this.held = Number.NaN;
  }

  set(what: "after" | "fader" | "heard" | "load" | "behind", value: number, playing: boolean): void {
    if (what === "after") this.afterGoal = value;
    else if (what === "fader") this.faderGoal = value;
    else if (what === "heard") this.heardGoal = value;
    else if (what === "load") this.loadGoal = value;
    else this.behindGoal = value;
    if (!playing) this.arrive();
  }

  private arrive(): void {
    this.after = this.afterGoal;
    this.fader = this.faderGoal;
    this.heard = this.heardGoal;
    this.load = this.loadGoal;
    this.behind = this.behindGoal;
  }

  /** Whether what it needs to be heard at a position has not come yet. */
  starves(position: number): boolean {
    if (this.heard === 0 && this.heardGoal === 0) return false;
    if (position >= this.frames) return false;
    const index = Math.floor(position / this.blockFrames);
    if (!this.blocks.has(index)) return true;
    return (this.load > 0 || this.loadGoal > 0) && !this.loads.has(index);
  }

  /** Add ``count`` samples from ``position`` on, none of them beyond the end of a block, to ``out`` from ``at`` on. */
  add(out: Float32Array[], envelope: Float32Array, at: number, count: number, position: number, step: number): void {
    const { rider } = this;
    rider?.begin(position, count);
    const index = Math.floor(position / this.blockFrames);
    const block = this.blocks.get(index);
    if (!block || position >= this.frames || (this.heard === 0 && this.heardGoal === 0)) {
      this.arrive();
      return;
    }
    const reduction = this.loads.get(index);
    const { channels } = this;
    const first = index * this.blockFrames;
    for (let i = 0; i < count; i++) {
      const now = position + i;
      let level = this.gain.at(now);
      const over = this.hold.at(now);
      this.held = Number.isNaN(this.held) ? over : approach(this.held, over, step * 24);
      level += this.held;
      if (this.oldGain) {
        this.swap = Math.min(1, this.swap + step);
        level = level * this.swap + (this.oldGain.at(now) + this.oldHeld) * (1 - this.swap);
        if (this.swap === 1) this.oldGain = null;
      }
      if (rider) level += rider.extra(i, now);
      this.after = approach(this.after, this.afterGoal, step);
      this.fader = approach(this.fader, this.faderGoal, step * 24);
      this.heard = approach(this.heard, this.heardGoal, step);
      this.load = approach(this.load, this.loadGoal, step);
      this.behind = approach(this.behind, this.behindGoal, step);
      let total = level * this.after + this.fader;
      if (this.load > 0 && reduction) total += this.load * reductionAt(reduction, now, this.after * (1 - this.behind));
      if (total !== this.lastDb) {
        this.lastDb = total;
        this.lastFactor = total === 0 ? 1 : total <= SILENCE ? 0 : Math.exp(total * DB);
      }
      const factor = this.lastFactor * envelope[at + i]! * this.heard;
      const place = (now - first) * channels;
      for (let c = 0; c < out.length; c++) {
        out[c]![at + i]! += (block[place + (c < channels ? c : channels - 1)] ?? 0) * factor;
      }
    }
  }
}

/** What the compressor does at a position, dB: ``share`` of it as with the gain, the rest as without. */
function reductionAt({ first, pairs }: Reduction, position: number, share: number): number {
  const place = position / LOAD_STEP - first;
  const left = Math.min(Math.max(Math.floor(place), 0), pairs.length / 2 - 2);
  const part = Math.min(Math.max(place - left, 0), 1);
  const before = pairs[2 * left]! * (1 - part) + pairs[2 * left + 2]! * part;
  if (share === 0) return before;
  const after = pairs[2 * left + 1]! * (1 - part) + pairs[2 * left + 3]! * part;
  return before + (after - before) * share;
}
