/** What the strips are drawn from, and what their drawing has in common: paper, labels, scales, sizes. */
import type { Clip, Draft, LaneName, Mark, Track } from "../api/client";
import { overLane } from "../model/hand/hold";
import type { Ways } from "../model/hand/ways";
import { gainAt } from "../model/heard/heard";
import { isLevel } from "../model/server/session";
import { LANES, type Layer, type Span, type Stage, useView } from "../model/view/view";
import { px, STEP } from "../parts/step";
import type { Palette } from "../parts/theme";
import type { GainPoints } from "../sound/worklet";
import { type Axis, axis, chartRange, GUTTER, RULER, type Scale, scale } from "./axis";

export const CAPSULE = px(11);
const FONT = `${11 * STEP}px 'JetBrains Mono Variable', monospace`;

export interface Scene {
  stage: Stage;
  clips: Clip[];
  marks: Mark[];
  /** Marks that are selected, and kinds that are shown. */
  chosen: Set<string>;
  kinds: Set<string>;
  track: Track;
  tolerance: number;
  window: Span;
  span: Span | null;
  selection: Set<string>;
  draft: Draft | null;
  trace: Float32Array;
  points: GainPoints;
  /** The amplitude that fills the wave. */
  loudest: number;
  dips: GainPoints;
  ways: Ways;
  /** What is drawn, and which layers are on. */
  lanes: Record<LaneName, GainPoints>;
  on: Record<Layer, boolean>;
  heard: boolean;
  unit: string;
  palette: Palette;
}

export type Context = CanvasRenderingContext2D;

export function chartScale(low: number, high: number, height: number): Scale {
  return scale(low, high, RULER + 4, height - 6);
}

export function paper(ctx: Context, width: number, height: number, scene: Scene): Axis {
  const { palette } = scene;
  ctx.clearRect(0, 0, width, height);
  ctx.fillStyle = palette.panel;
  ctx.fillRect(GUTTER, 0, width - GUTTER, height);
  const a = axis(scene.window, width);
  if (scene.span) {
    ctx.fillStyle = palette.span;
    ctx.fillRect(a.x(scene.span.start), 0, a.x(scene.span.end) - a.x(scene.span.start), height);
  }
  return a;
}

export function clipToPicture(ctx: Context, width: number, height: number, work: () => void) {
  ctx.save();
  ctx.beginPath();
  ctx.rect(GUTTER, 0, width - GUTTER, height);
  ctx.clip();
  work();
  ctx.restore();
}

export function label(
  ctx: Context,
  text: string,
  x: number,
  y: number,
  colour: string,
  align: CanvasTextAlign = "right",
) {
  ctx.font = FONT;
  ctx.fillStyle = colour;
  ctx.textAlign = align;
  ctx.textBaseline = "middle";
  ctx.fillText(text, x, y);
}

export function stateColour(value: number, tolerance: number, palette: Palette): string {
  if (isLevel(value, tolerance)) return palette.level;
  return value > 0 ? palette.loud : palette.quiet;
}

export function capsuleBox(a: Axis, clip: Clip): { x: number; w: number } {
  const x = a.x(clip.phrase_start ?? clip.start);
  return { x, w: Math.max(a.x(clip.phrase_end ?? clip.end) - x, CAPSULE) };
}

export const BORDER_GRIP = px(14);

/** Deviations that the level chart shows as it stands: in the stage Balance there is room for the bed. */
export const levelRange = (clips: Clip[], target: number) =>
  chartRange(clips, target, useView.getState().stage === "balance");

/** Deeper dips hang out of the bottom of the strip. */
const SHOWN_DEPTH = -30;
export const GAIN_RANGE = { low: -14, high: 11 };
/** Where a working range that goes down to silence ends in the picture; from there on it is silence. */
export const LOWEST_SHOWN = -60;

/** The gain strip: from above the highest clip gain down to the deepest dip that is shown. In the stage Ride it is the
 * working range, so that the hand has room for what is drawn. */
const extents = new WeakMap<GainPoints, { low: number; high: number }>();

/** Between which dB a compiled gain lies; worked out once. Silence is no depth that a strip could show. */
function extentOf(points: GainPoints): { low: number; high: number } {
  let known = extents.get(points);
  if (!known) {
    known = { low: 0, high: 0 };
    for (const db of points.db) {
      known.high = Math.max(known.high, db);
      if (db >= SHOWN_DEPTH) known.low = Math.min(known.low, db);
    }
    extents.set(points, known);
  }
  return known;
}

/** The scale of the gain strip: it takes in every layer, and the sum of them. */
export function gainScale(
  clips: Clip[],
  marks: Mark[],
  sum: GainPoints,
  track: Track | undefined,
  stage: Stage,
  height: number,
): Scale {
  let { low, high } = GAIN_RANGE;
  if (stage === "ride" && track) {
    low = Math.max(track.range_low, LOWEST_SHOWN) - 1;
    high = track.range_high + 1;
  }
  const extent = extentOf(sum);
  low = Math.min(low, extent.low - 2);
  high = Math.max(high, extent.high + 2);
  for (const clip of clips) {
    low = Math.min(low, clip.gain - 2);
    high = Math.max(high, clip.gain + 2);
  }
  for (const mark of stage === "ride" ? [] : marks) {
    if (mark.on || stage === "details") low = Math.min(low, Math.max(mark.depth, SHOWN_DEPTH) - 2);
  }
  return scale(low, high, 4, height - 4);
}

/** What is drawn, with what the hand does to it, at a moment: dB. */
export function drawnAt(scene: Scene, seconds: number): number {
  const position = seconds * scene.track.timeline.sample_rate;
  let db = 0;
  for (const name of LANES) {
    if (!scene.on[name]) continue;
    db += gainAt(scene.lanes[name], position) + gainAt(overLane(scene.track.id, name), seconds);
  }
  return db;
}
