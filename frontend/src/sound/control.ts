/**
 * What a controller means: from MIDI bytes to a hand that takes hold, moves and lets go. Nothing here knows the page.
 *
 * Control change, pitch bend and notes are those of the MIDI 1.0 specification; a control below 32 and the one 32 above it are
 * the coarse and the fine half of one value.
 */

export type Bytes = ArrayLike<number>;
export type Heard =
  | { kind: "control"; channel: number; number: number; value: number }
  | { kind: "bend"; channel: number; value: number }
  | { kind: "note"; channel: number; number: number; on: boolean };

/** Which control moves the hand: on any device and any channel where those are null. */
export interface Binding {
  device: string | null;
  channel: number | null;
  /** The number of a control, or "bend". */
  control: number | "bend";
  /** The note that says that the control is touched, where it sends one. */
  touch: number | null;
}
export const AS_IT_COMES: Binding = { device: null, channel: null, control: 7, touch: null };

/** The messages in some bytes that are understood; what is cut off, or garbage, is left out. */
export function read(bytes: Bytes): Heard[] {
  const heard: Heard[] = [];
  let i = 0;
  while (i < bytes.length) {
    const status = bytes[i]!;
    const kind = status >> 4;
    if (kind !== 0xb && kind !== 0xe && kind !== 0x8 && kind !== 0x9) {
      i++;
      continue;
    }
    const [a, b] = [bytes[i + 1], bytes[i + 2]];
    if (a === undefined || b === undefined || a > 127 || b > 127) {
      i++;
      continue;
    }
    const channel = status & 15;
    if (kind === 0xb) heard.push({ kind: "control", channel, number: a, value: b });
    else if (kind === 0xe) heard.push({ kind: "bend", channel, value: (b << 7) | a });
    else heard.push({ kind: "note", channel, number: a, on: kind === 0x9 && b > 0 });
    i += 3;
  }
  return heard;
}

/** What a hand does. */
export interface Grip {
  hold: () => void;
  /** By how many dB it has moved since it took hold. */
  move: (by: number) => void;
  letGo: () => void;
  /** What is heard of the lane now, dB, and between which values it lies. */
  now: () => { db: number; low: number; high: number };
}

/** Milliseconds without a move after which a control that tells no touch counts as let go. */
export const REST = 600;

/**
 * One controller. With a touch it moves the hand from where it is, wherever its own fader stands; without one nothing happens
 * until it has passed the value that is heard.
 */
export class Control {
  private coarse = 0;
  private fine = -1;
  private share: number | null = null;
  private touched = false;
  private held = false;
  private from = 0;
  private timer: ReturnType<typeof setTimeout> | undefined;
  /** Where the controller stands while it has yet to be picked up, as dB; null where it has been. */
  waitsAt: number | null = null;

  constructor(
    private readonly grip: Grip,
    private readonly changed: () => void = () => {},
  ) {}

  hear(heard: Heard, binding: Binding): void {
    if (binding.channel !== null && heard.channel !== binding.channel) return;
    if (heard.kind === "note") {
      if (heard.number !== binding.touch) return;
      this.touched = heard.on;
      if (heard.on) this.begin();
      else this.letGo();
      return;
    }
    const share = this.shareOf(heard, binding);
    if (share === null) return;
    const before = this.share;
    this.share = share;
    if (this.held) this.follow();
    else if (this.touched) this.begin();
    else if (binding.touch === null) this.pickUp(before, share);
  }

  /** It was pulled out, or closed. */
  gone(): void {
    this.touched = false;
    this.share = null;
    this.letGo();
  }

  private shareOf(heard: Exclude<Heard, { kind: "note" }>, { control }: Binding): number | null {
    if (heard.kind === "bend") return control === "bend" ? heard.value / 16383 : null;
    if (control === "bend") return null;
    if (heard.number === control) {
      this.coarse = heard.value;
      // one that sends no fine half is a value of seven bits
      if (this.fine < 0) return heard.value / 127;
      this.fine = 0;
      return (heard.value << 7) / 16383;
    }
    if (control < 32 && heard.number === control + 32) {
      this.fine = heard.value;
      return ((this.coarse << 7) | heard.value) / 16383;
    }
    return null;
  }

  private dbOf(share: number): number {
    const { low, high } = this.grip.now();
    return low + share * (high - low);
  }

  private begin(): void {
    if (this.held) return;
    this.held = true;
    this.from = this.share === null ? Number.NaN : this.dbOf(this.share);
    this.show(null);
    this.grip.hold();
  }

  private pickUp(before: number | null, share: number): void {
    const { db } = this.grip.now();
    const [was, is] = [before === null ? null : this.dbOf(before), this.dbOf(share)];
    const close = Math.abs(is - db) < 0.3;
    if (!close && (was === null || (was - db) * (is - db) > 0)) {
      this.show(is);
      return;
    }
    this.begin();
    // it goes on from the value that it has passed
    this.from = db;
    this.follow();
  }

  private follow(): void {
    if (this.share === null) return;
    if (Number.isNaN(this.from)) this.from = this.dbOf(this.share);
    this.grip.move(this.dbOf(this.share) - this.from);
    if (this.touched) return;
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.letGo(), REST);
  }

  private letGo(): void {
    clearTimeout(this.timer);
    this.show(null);
    if (!this.held) return;
    this.held = false;
    this.grip.letGo();
  }

  private show(waitsAt: number | null): void {
    if (this.waitsAt === waitsAt) return;
    this.waitsAt = waitsAt;
    this.changed();
  }
}
