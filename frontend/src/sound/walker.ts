/** A compiled gain, read forwards on the audio thread. */
export interface GainPoints {
  at: Float64Array;
  db: Float64Array;
}

export const NOTHING: GainPoints = { at: new Float64Array(0), db: new Float64Array(0) };

/** Reads a piecewise linear curve forwards; looking back costs a search. */
export class Walker {
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

/** One step of a value on its way to a goal. */
export function approach(value: number, goal: number, step: number): number {
  return value < goal ? Math.min(goal, value + step) : Math.max(goal, value - step);
}
