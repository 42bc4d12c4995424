/**
 * The hand on the audio thread: one lane of one track is taken apart from the rest of its gain and held. What is heard is what
 * is reported, moment by moment; nothing else is written. Nothing is made here while it plays.
 *
 * A lane is held *absolutely* (what is held replaces what is drawn) or *as an offset* (it lies over it). Taking it begins from
 * what is heard at that moment, so nothing jumps; letting it go glides back, or, in latch, stays until playing stops.
 */
import { type GainPoints, Walker } from "./walker";

export interface RideSetting {
  /** The lane as it is compiled, in samples of the session. */
  lane: GainPoints;
  offset: boolean;
  latch: boolean;
  /** Whether what is held is written. */
  armed: boolean;
  /** Samples of the way back. */
  glide: number;
  /** Samples between which it may be written; it has no effect outside of them. */
  from: number;
  to: number;
  /** dB between which it may be held. */
  low: number;
  high: number;
}

/** What the audio thread tells of the hand: pairs of position and dB; a run ends with a pair of NaN. */
export interface RideReport {
  type: "ride";
  track: string;
  pairs: Float64Array;
  count: number;
  /** Whether the round is over: playing has stopped, or the loop comes round. */
  over: boolean;
}

/** Seconds in which most of a move is followed, and of the ramps at the borders of a span. */
const FOLLOW = 0.004;
const BORDER = 0.005;
/** dB from which it has arrived. */
const CLOSE = 0.002;
const ROOM = 64;

export class Rider {
  private walker: Walker;
  private setting: RideSetting;
  held = false;
  /** Whether latch keeps what was held until playing stops. */
  private kept = false;
  /** How far the hand has moved since it took hold, and from where, dB. */
  private by = 0;
  private base = Number.NaN;
  private value = 0;
  /** What is left of the way back: dB beside the lane, and samples of all of it. */
  private back = 0;
  private left = 0;
  /** Over the present stretch: the value at its start, its change for each sample, and which of the ways it goes. */
  private start = 0;
  private slope = 0;
  private active = false;
  private isBack = false;
  private writing = false;
  private last = 0;
  readonly report: RideReport;

  constructor(
    track: string,
    setting: RideSetting,
    private readonly sampleRate: number,
  ) {
    this.setting = setting;
    this.walker = new Walker(setting.lane);
    this.report = { type: "ride", track, pairs: new Float64Array(2 * ROOM), count: 0, over: false };
  }

  /** Another setting, or the lane as it is by now; what is held goes on. */
  set(setting: RideSetting): void {
    this.walker = new Walker(setting.lane);
    if (!setting.latch || !setting.armed) this.kept = false;
    this.setting = setting;
  }

  /** Take hold, move by so many dB since then, or let go. */
  hand(held: boolean, by: number): void {
    // it takes hold of what is heard when the next stretch begins
    if (held && !this.held) this.base = Number.NaN;
    this.held = held;
    this.by = by;
  }

  /** Whether the report has to be sent before more is noted. */
  get full(): boolean {
    return this.report.count > ROOM - 4;
  }

  /** What is heard of the lane: what is held, or what is drawn there with what is left of the way back. */
  heard(position: number): number {
    if (this.kept || (this.held && !Number.isNaN(this.base))) return this.value;
    return this.setting.offset ? this.beside : this.walker.at(position) + this.beside;
  }

  /** dB beside the lane on the way back. */
  private get beside(): number {
    return this.left > 0 ? (this.back * this.left) / Math.max(this.setting.glide, 1) : 0;
  }

  /** Get ready for some samples from a position on. */
  begin(position: number, count: number): void {
    const { setting } = this;
    const inside = position + count > setting.from && position < setting.to;
    if (this.held && Number.isNaN(this.base)) {
      this.value = this.heard(position);
      this.base = this.value;
      this.left = 0;
    }
    if (this.held && setting.latch && setting.armed) this.kept = true;
    this.isBack = false;
    if (this.held || this.kept) {
      const goal = this.held ? Math.min(Math.max(this.base + this.by, setting.low), setting.high) : this.value;
      this.start = this.value;
      let next = this.value + (goal - this.value) * (1 - Math.exp(-count / (FOLLOW * this.sampleRate)));
      if (Math.abs(goal - next) < CLOSE) next = goal;
      this.slope = (next - this.start) / count;
      this.value = next;
      this.active = true;
    } else {
      if (!Number.isNaN(this.base)) {
        // let go: the difference to the lane goes down over the glide
        this.back = setting.offset ? this.value : this.value - this.walker.at(position);
        this.left = setting.glide;
        this.base = Number.NaN;
      }
      this.active = this.left > 0;
      this.isBack = this.active;
      if (this.active) {
        this.slope = -this.back / Math.max(setting.glide, 1);
        this.start = this.beside;
        this.left = Math.max(0, this.left - count);
      }
    }
    const writes = setting.armed && inside && (this.held || this.kept);
    if (writes) this.note(position, this.start);
    else if (this.writing) this.endRun(position);
    this.writing = writes;
    this.last = position + count;
  }

  /** dB that the hand adds to the gain at a sample of the stretch. */
  extra(i: number, position: number): number {
    if (!this.active) return 0;
    let db = this.start + this.slope * i;
    if (this.isBack) db = this.back > 0 ? Math.max(db, 0) : Math.min(db, 0);
    else if (!this.setting.offset) db -= this.walker.at(position);
    if (!this.setting.armed) return db;
    const ramp = BORDER * this.sampleRate;
    const room = Math.min(position - this.setting.from, this.setting.to - position);
    return room >= ramp ? db : room <= 0 ? 0 : (db * room) / ramp;
  }

  /** A round is over: playing has stopped, or the loop comes round. What is held is still held in the next one. */
  endRound(): void {
    if (this.writing) this.endRun(this.last);
    this.writing = false;
    this.kept = false;
    this.left = 0;
    if (!this.held) this.base = Number.NaN;
  }

  private endRun(position: number): void {
    this.note(position, this.value);
    this.note(Number.NaN, Number.NaN);
  }

  private note(position: number, db: number): void {
    const { report } = this;
    report.pairs[2 * report.count] = position;
    report.pairs[2 * report.count + 1] = db;
    report.count++;
  }
}
