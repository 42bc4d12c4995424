/** Drawing a compiled gain: as a line, or column by column where its points lie closer than the pixels. */
import { gainAt } from "../model/heard/heard";
import { firstPlace } from "../parts/search";
import type { GainPoints } from "../sound/worklet";
import { type Axis, GUTTER, type Scale } from "./axis";
import type { Context } from "./scene";

/** Points for each pixel from which single ones cannot be told apart; stroking them all would only take time. */
const DENSE = 0.35;

/** The first point after a moment (seconds). */
function pointAfter(line: GainPoints, rate: number, seconds: number): number {
  return firstPlace(line.at.length, (i) => line.at[i]! / rate > seconds);
}

/** Stroke what a window shows of a gain, with the line that is set; what is far below the scale leaves the strip. */
export function strokeLine(ctx: Context, a: Axis, s: Scale, line: GainPoints, rate: number) {
  const start = a.seconds(GUTTER);
  const end = a.seconds(a.width);
  const first = pointAfter(line, rate, start);
  const last = pointAfter(line, rate, end);
  const y = (db: number) => s.y(Math.max(db, s.low - 12));
  if (last - first > DENSE * (a.width - GUTTER)) return fillColumns(ctx, a, line, rate, first, y);
  ctx.beginPath();
  ctx.moveTo(GUTTER, y(gainAt(line, start * rate)));
  for (let i = first; i < last; i++) ctx.lineTo(a.x(line.at[i]! / rate), y(line.db[i]!));
  ctx.lineTo(a.width, y(gainAt(line, end * rate)));
  ctx.stroke();
}

/** For each column of pixels a bar from the lowest to the highest gain in it. */
function fillColumns(ctx: Context, a: Axis, line: GainPoints, rate: number, first: number, y: (db: number) => number) {
  const half = ctx.lineWidth / 2;
  ctx.fillStyle = ctx.strokeStyle;
  let i = first;
  let before = gainAt(line, a.seconds(GUTTER) * rate);
  for (let x = GUTTER; x < a.width; x++) {
    const until = a.seconds(x + 1) * rate;
    const after = gainAt(line, until);
    let low = Math.min(before, after);
    let high = Math.max(before, after);
    for (; i < line.at.length && line.at[i]! < until; i++) {
      low = Math.min(low, line.db[i]!);
      high = Math.max(high, line.db[i]!);
    }
    const top = y(high) - half;
    ctx.fillRect(x, top, 1, y(low) + half - top);
    before = after;
  }
}
