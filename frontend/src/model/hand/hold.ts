/**
 * What the hand does to the lane in hand before it is an edit: a line of its own, in seconds and dB over all gain, that is
 * drawn and heard at once.
 */
import type { LanePoint } from "../../api/client";
import { firstPlace } from "../../parts/search";
import type { Line } from "../../sound/lines";
import { gainAt, heard } from "../heard/heard";
import { heardOver, hearHand, overLayer } from "../server/ear";
import { duration, focused, focusedClips } from "../server/focus";
import { hand, isSilent, type Layer, redraw, type Span, useView } from "../view/view";
import { laneOffset, lanePoints, lanes } from "./rideState";

/** A line as its times and its gains, as they are looked up. */
const apart = (line: Line) => ({ at: line.map(([at]) => at), db: line.map(([, db]) => db) });

/** Have what the hand does drawn and heard at once, over the lane in hand; an empty line lets go of it. */
export function holdLine(line: Line) {
  const track = focused();
  hearHand(track ? { track: track.id, layer: useView.getState().lane, line } : null);
  redraw();
}

/** What the hand, and edits that are on their way, make of a layer over what is compiled of it: seconds and dB. */
export const overLane = (track: string, layer: Layer) => apart(overLayer(track, layer));

/** What lies over all that is compiled of a track: seconds and dB. */
export const overAll = (track: string) => apart(heardOver(track));

/** What the hand, and edits that are on their way, add to a layer at a moment, dB. */
export const heldAt = (track: string, layer: Layer, seconds: number) => gainAt(overLane(track, layer), seconds);

/** A span moved by some dB, with the ramps that the server will give it. */
export function liftLine(span: Span, by: number): Line {
  const ramp = lanes()?.ramp ?? 0;
  return [
    [span.start - ramp, 0],
    [span.start, by],
    [span.end, by],
    [span.end + ramp, 0],
  ];
}

/** The working range for the points of the lane in hand, dB. */
export function handRange(): { low: number; high: number } {
  const track = focused();
  const offset = laneOffset();
  const low = track?.range_low ?? -20;
  return { low: isSilent(low) ? low : low - offset, high: (track?.range_high ?? 6) - offset };
}

/** How far values may move together by ``by`` dB and stay within the working range. */
export function kept(by: number, values: number[]): number {
  const { low, high } = handRange();
  const down = Math.min(low - Math.min(...values), 0);
  const up = Math.max(high - Math.max(...values), 0);
  return Math.min(Math.max(by, down), up);
}

/** How far a span of the lane in hand may be lifted. */
export function keptLift(span: Span, by: number): number {
  const points = lanePoints();
  const inside = [valueAt(span.start), valueAt(span.end)];
  for (let i = firstPlace(points.length, (k) => points[k]!.at >= span.start); i < points.length; i++) {
    if (points[i]!.at > span.end) break;
    inside.push(points[i]!.db);
  }
  return kept(by, inside);
}

/** What the lane in hand does at a moment without its offset, from its compiled gain. */
function valueAt(seconds: number): number {
  const rate = focused()?.timeline.sample_rate ?? 48000;
  const line = heard()[useView.getState().lane];
  return line.at.length ? gainAt(line, seconds * rate) - laneOffset() : 0;
}

/**
 * Points as straight ways from one to the next, between two places: seconds and dB. A lane goes on at both of its ends;
 * what a clip owns goes on to its borders.
 */
export function straightLine(points: LanePoint[], from: number, to: number, hold = (point: LanePoint) => point): Line {
  const line: Line = [];
  for (let i = from; i <= to; i++) {
    const point = hold(points[i]!);
    if (i === 0 || points[i - 1]!.clip !== point.clip) line.push(...edge(point, "start"));
    line.push([point.at, point.db]);
    if (i === points.length - 1 || points[i + 1]!.clip !== point.clip) line.push(...edge(point, "end"));
  }
  return line;
}

/** How a lane goes on before its first or after its last point. */
function edge(point: LanePoint, side: "start" | "end"): Line {
  const clip = point.clip && focusedClips().find((c) => c.id === point.clip);
  const at = clip ? clip[side] : side === "start" ? Math.min(point.at, 0) - 1 : Math.max(point.at, duration()) + 1;
  if (!clip) return [[at, point.db]];
  return side === "start"
    ? [
        [at, 0],
        [at, point.db],
      ]
    : [
        [at, point.db],
        [at, 0],
      ];
}

/** The difference that moved points make. O(points of the lane). */
export function pointsLine(chosen: ReadonlySet<string>, seconds: number, db: number): Line {
  const points = lanePoints();
  const first = points.findIndex((point) => chosen.has(point.id));
  if (first < 0) return [];
  const last = points.findLastIndex((point) => chosen.has(point.id));
  const [from, to] = [Math.max(first - 1, 0), Math.min(last + 1, points.length - 1)];
  const moved = (p: LanePoint) => (chosen.has(p.id) ? { ...p, at: p.at + seconds, db: p.db + db } : p);
  return difference(straightLine(points, from, to), straightLine(points, from, to, moved));
}

/** How far one line lies over another, wherever one of them has a point. */
export function difference(before: Line, after: Line): Line {
  const at = [...new Set([...before, ...after].map(([t]) => t))].sort((a, b) => a - b);
  const [a, b] = [apart(before), apart(after)];
  return at.map((t) => [t, gainAt(b, t) - gainAt(a, t)]);
}

/** What a drawn line changes: it lies over what was there, and nothing outside of it. */
export function drawnLine(line: Line): Line {
  if (line.length < 2) return [];
  const [start, end] = [line[0]![0], line.at(-1)![0]];
  const drawn = apart(line);
  // the corners of what was there count as well
  const corners = lanePoints().flatMap((point) => (point.at > start && point.at < end ? [point.at] : []));
  const at = [...drawn.at, ...corners].sort((m, n) => m - n);
  const over = at.map((t): [number, number] => [t, gainAt(drawn, t) - valueAt(t) - laneOffset()]);
  return [[start, 0], ...over, [end, 0]];
}

/** Where a point lies now: with the offset of its lane, and with the hand that holds it. */
export function heldPoint(point: LanePoint): { at: number; db: number } {
  const lying = point.db + laneOffset();
  if (!hand.points.ids.has(point.id)) return { at: point.at, db: lying };
  return { at: point.at + hand.points.seconds, db: lying + hand.points.db };
}
