/** Drawing the lanes: the ride as a line with points, the trim as dashes, a draft over them. */
import type { RidePoint } from "../api/client";
import type { Palette } from "../frame/theme";
import { gainAt } from "../model/curve";
import { heldPoint, lanePoints, useRide } from "../model/ride";
import { hand, useView } from "../model/view";
import { firstPlace } from "../parts/search";
import type { GainPoints } from "../sound/worklet";
import { type Axis, GUTTER, type Scale } from "./axis";
import { strokeLine } from "./drawLine";
import type { Context, Scene } from "./scene";

const POINT = 4;
/** Pixels between two points on the average from which they are drawn as points and can be held. */
const ROOM = 7;
const RAMP = 0.06;

/** What the hand lifts at a moment, dB. */
export function liftAt(seconds: number): number {
  if (!hand.lift) return 0;
  const { start, end, by } = hand.lift;
  const share = Math.min((seconds - start + RAMP) / RAMP, (end + RAMP - seconds) / RAMP, 1);
  return by * Math.max(share, 0);
}

/** The points of the lane in hand that a window shows, with their places; none where they lie too close to be held. */
export function shownPoints(a: Axis, width: number): { point: RidePoint; place: number }[] {
  const points = lanePoints();
  const shown: { point: RidePoint; place: number }[] = [];
  let place = firstFrom(points, a.seconds(GUTTER));
  for (; place < points.length; place++) {
    const point = points[place]!;
    if (a.x(point.at) > width) break;
    shown.push({ point, place });
  }
  return shown.length * ROOM < width ? shown : [];
}

function firstFrom(points: RidePoint[], seconds: number): number {
  return firstPlace(points.length, (i) => points[i]!.at >= seconds);
}

export function drawRide(ctx: Context, width: number, a: Axis, s: Scale, scene: Scene) {
  const { palette } = scene;
  const { lane } = useView.getState();
  const working = scene.stage === "ride";
  for (const name of ["trim", "ride"] as const) {
    const line = scene[name];
    const inHand = working && lane === name;
    if (line.at.length === 0 && !inHand) continue;
    ctx.strokeStyle = palette[name];
    ctx.globalAlpha = (scene.heard && scene.lanesOn[name] ? 1 : 0.4) * (working && !inHand ? 0.6 : 1);
    ctx.lineWidth = inHand ? 2 : 1.5;
    ctx.setLineDash(name === "trim" ? [5, 4] : []);
    if (inHand && hand.line.length) drawLineInHand(ctx, a, s);
    if (inHand && hand.points.ids.size) drawThroughPoints(ctx, a, s, width);
    else drawLine(ctx, a, s, width, line, scene.track.recording.sample_rate, inHand);
    ctx.setLineDash([]);
  }
  ctx.globalAlpha = 1;
  const { draft } = useRide.getState();
  if (working && draft) drawDraft(ctx, a, s, width, draft.points, palette);
  if (working) drawPoints(ctx, a, s, width, palette);
}

/** The line of a lane; where the hand lifts a span of it, with the lift. */
function drawLine(ctx: Context, a: Axis, s: Scale, width: number, line: GainPoints, rate: number, lifted: boolean) {
  if (!lifted || !hand.lift) return strokeLine(ctx, a, s, line, rate);
  ctx.beginPath();
  for (let x = GUTTER; x <= width; x += 2) {
    const t = a.seconds(x);
    ctx.lineTo(x, s.y(Math.max(gainAt(line, t * rate) + liftAt(t), s.low - 12)));
  }
  ctx.stroke();
}

function drawLineInHand(ctx: Context, a: Axis, s: Scale) {
  ctx.save();
  ctx.lineWidth = 3;
  ctx.beginPath();
  for (const [at, db] of hand.line) ctx.lineTo(a.x(at), s.y(db));
  ctx.stroke();
  ctx.restore();
}

/** While points are held, the line is drawn straight from one to the next; on release it is the compiled one again. */
function drawThroughPoints(ctx: Context, a: Axis, s: Scale, width: number) {
  const points = lanePoints().map(heldPoint);
  ctx.beginPath();
  ctx.moveTo(GUTTER, s.y(points[0]?.db ?? 0));
  for (const point of points) ctx.lineTo(a.x(point.at), s.y(Math.max(point.db, s.low - 6)));
  ctx.lineTo(width, s.y(points.at(-1)?.db ?? 0));
  ctx.stroke();
}

function drawDraft(ctx: Context, a: Axis, s: Scale, width: number, points: RidePoint[], palette: Palette) {
  ctx.strokeStyle = palette.draft;
  ctx.lineWidth = 1.6;
  ctx.setLineDash([2, 3]);
  ctx.beginPath();
  const from = Math.max(firstFrom(points, a.seconds(GUTTER)) - 1, 0);
  for (let i = from; i < points.length; i++) {
    const { at, db } = points[i]!;
    const x = a.x(at);
    if (i === from) ctx.moveTo(from === 0 ? GUTTER : x, s.y(db));
    ctx.lineTo(x, s.y(db));
    if (x > width) break;
    if (i === points.length - 1) ctx.lineTo(width, s.y(db));
  }
  ctx.stroke();
  ctx.setLineDash([]);
}

function drawPoints(ctx: Context, a: Axis, s: Scale, width: number, palette: Palette) {
  const { lane, points: chosen } = useView.getState();
  ctx.lineWidth = 1.6;
  ctx.strokeStyle = palette[lane];
  for (const { point, place } of shownPoints(a, width)) {
    const { at, db } = heldPoint(point, place);
    const isChosen = chosen.has(place);
    ctx.fillStyle = isChosen ? palette.ink : palette.panel;
    ctx.strokeStyle = isChosen ? palette.ink : palette[lane];
    ctx.beginPath();
    ctx.arc(a.x(at), s.y(Math.max(db + liftAt(at), s.low)), isChosen ? POINT + 0.5 : POINT - 0.5, 0, Math.PI * 2);
    ctx.fill();
    ctx.stroke();
  }
}
