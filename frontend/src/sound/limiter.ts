/** The limiter that guards the ears. Where nothing limits, it is a pure delay. */
const LOOK_AHEAD = 64;
const CEILING = 10 ** (-1 / 20);
const RELEASE = 0.15;

/** Holds the sum under the ceiling: gain falls ahead of a peak and comes back slowly. */
export class Limiter {
  private readonly delay: Float32Array[];
  private readonly need = new Float32Array(LOOK_AHEAD * 2).fill(1);
  private readonly window = new Float32Array(LOOK_AHEAD).fill(1);
  private at = 0;
  private held = 1;
  private quiet = LOOK_AHEAD * 3;
  private readonly back: number;
  /** Whether it had to do anything since this was last set to false. */
  worked = false;

  constructor(channels: number, rate: number) {
    this.delay = Array.from({ length: channels }, () => new Float32Array(LOOK_AHEAD * 2));
    this.back = 1 - Math.exp(-1 / (RELEASE * rate));
  }

  /** Limit as many samples of each channel as there are, in place. */
  run(channels: Float32Array[], count: number): void {
    const size = LOOK_AHEAD * 2;
    for (let i = 0; i < count; i++) {
      let peak = 0;
      for (let c = 0; c < channels.length; c++) peak = Math.max(peak, Math.abs(channels[c]![i]!));
      const wanted = peak > CEILING ? CEILING / peak : 1;
      const now = this.at % size;
      this.need[now] = wanted;
      if (wanted < 1) {
        this.quiet = 0;
        this.worked = true;
      } else this.quiet++;
      const gain = this.quiet < LOOK_AHEAD * 3 || this.held < 0.99999 ? this.ease(now, size) : this.rest();
      const old = (now - LOOK_AHEAD + 1 + size) % size;
      for (let c = 0; c < channels.length; c++) {
        const line = this.delay[c]!;
        line[now] = channels[c]![i]!;
        channels[c]![i] = line[old]! * gain;
      }
      this.at++;
    }
  }

  /** Lowest need of the look-ahead, held and let go slowly, then averaged over as long: it arrives in time, without a step. */
  private ease(now: number, size: number): number {
    let lowest = 1;
    for (let i = 0; i <= LOOK_AHEAD; i++) lowest = Math.min(lowest, this.need[(now - i + size) % size]!);
    this.held = Math.min(lowest, this.held + (1 - this.held) * this.back);
    this.window[this.at % LOOK_AHEAD] = this.held;
    let sum = 0;
    for (let i = 0; i < LOOK_AHEAD; i++) sum += this.window[i]!;
    return sum / LOOK_AHEAD;
  }

  private rest(): number {
    this.held = 1;
    this.window[this.at % LOOK_AHEAD] = 1;
    return 1;
  }
}
