/** Drawing the lanes: the ride as a line with points, the trim as dashes, a draft over them. */
import type { LanePoint, RidePoint } from "../api/client";
import { heldPoint, overLane } from "../model/hand/hold";
import { lanePoints, useRide } from "../model/hand/rideState";
import { gainAt } from "../model/heard/heard";
import { focused } from "../model/server/focus";
import { hand, LANES, useView } from "../model/view/view";
import { firstPlace } from "../parts/search";
import { px } from "../parts/step";
import type { Palette } from "../parts/theme";
import type { GainPoints } from "../sound/worklet";
import { type Axis, GUTTER, type Scale } from "./axis";
import { strokeLine } from "./drawLine";
import { drawPasses } from "./drawPasses";
import type { Context, Scene } from "./scene";

const POINT = px(4);
/** Pixels between two points on the average from which they are drawn as points and can be held. */
const ROOM = 7;

/** The points of the lane in hand that a window shows, none where they lie too close to be held. */
export function shownPoints(a: Axis, width: number): LanePoint[] {
  const points = lanePoints();
  const from = firstFrom(points, a.seconds(GUTTER));
  const shown = points.slice(
    from,
    firstPlace(points.length, (i) => a.x(points[i]!.at) > width),
  );
  return shown.length * ROOM < width ? shown : [];
}

function firstFrom(points: RidePoint[], seconds: number): number {
  return firstPlace(points.length, (i) => points[i]!.at >= seconds);
}

export function drawRide(ctx: Context, width: number, a: Axis, s: Scale, scene: Scene) {
  const { palette } = scene;
  const { lane } = useView.getState();
  const working = scene.stage === "ride";
  for (const name of [...LANES].reverse()) {
    const line = scene.lanes[name];
    const inHand = working && lane === name;
    if (line.at.length === 0 && !inHand) continue;
    ctx.strokeStyle = palette[name];
    ctx.globalAlpha = (scene.heard && scene.on[name] ? 1 : 0.4) * (working && !inHand ? 0.6 : 1);
    ctx.lineWidth = inHand ? 2 : 1.5;
    ctx.setLineDash(name === "trim" ? [5, 4] : []);
    if (inHand && hand.line.length) drawLineInHand(ctx, a, s);
    const over = overLane(scene.track.id, name);
    if (over.at.length) drawHeld(ctx, a, s, width, line, over, scene.track.timeline.sample_rate);
    else strokeLine(ctx, a, s, line, scene.track.timeline.sample_rate);
    ctx.setLineDash([]);
  }
  if (working && scene.lanes.ride.at.length && scene.lanes.trim.at.length) drawRideWithTrim(ctx, a, s, width, scene);
  ctx.globalAlpha = 1;
  const { draft } = useRide.getState();
  if (working && draft) drawDraft(ctx, a, s, width, draft.points, palette);
  if (working) drawPoints(ctx, a, s, width, palette);
  if (working) drawPasses(ctx, a, s, width, palette);
}

type Drawn = ReturnType<typeof overLane>;

/** A line with what lies over it. */
export function drawHeld(ctx: Context, a: Axis, s: Scale, width: number, line: GainPoints, over: Drawn, rate: number) {
  ctx.beginPath();
  for (let x = GUTTER; x <= width; x++) {
    const t = a.seconds(x);
    ctx.lineTo(x, s.y(Math.max(gainAt(line, t * rate) + gainAt(over, t), s.low - 12)));
  }
  ctx.stroke();
}

/** The ride as it is heard: with the trim over it, a fine line beside its own shape. */
function drawRideWithTrim(ctx: Context, a: Axis, s: Scale, width: number, scene: Scene) {
  const rate = scene.track.timeline.sample_rate;
  const { ride, trim } = scene.lanes;
  ctx.strokeStyle = scene.palette.ride;
  ctx.lineWidth = 1;
  ctx.globalAlpha = 0.7;
  ctx.beginPath();
  for (let x = GUTTER; x <= width; x++) {
    const t = a.seconds(x) * rate;
    ctx.lineTo(x, s.y(Math.max(gainAt(ride, t) + gainAt(trim, t), s.low - 12)));
  }
  ctx.stroke();
  ctx.globalAlpha = 1;
}

function drawLineInHand(ctx: Context, a: Axis, s: Scale) {
  ctx.save();
  ctx.lineWidth = 3;
  ctx.beginPath();
  for (const [at, db] of hand.line) ctx.lineTo(a.x(at), s.y(db));
  ctx.stroke();
  ctx.restore();
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
  const over = overLane(focused()?.id ?? "", lane);
  const [drawnFrom, drawnTo] = [hand.line[0]?.[0] ?? 0, hand.line.at(-1)?.[0] ?? 0];
  for (const point of shownPoints(a, width)) {
    const { at, db } = heldPoint(point);
    // what is drawn over is gone
    if (hand.line.length && at >= drawnFrom && at <= drawnTo) continue;
    const isChosen = chosen.has(point.id);
    ctx.fillStyle = isChosen ? palette.ink : palette.panel;
    ctx.strokeStyle = isChosen ? palette.ink : palette[lane];
    ctx.beginPath();
    ctx.arc(
      a.x(at),
      s.y(Math.max(hand.points.ids.size ? db : db + gainAt(over, at), s.low)),
      isChosen ? POINT + 0.5 : POINT - 0.5,
      0,
      Math.PI * 2,
    );
    ctx.fill();
    ctx.stroke();
  }
}
