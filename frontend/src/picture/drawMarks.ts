/** Drawing marks and dips: the ribbon with the signs of what was found, and the notches that hang in the gain strip. */
import type { Mark } from "../api/client";
import { isDoubtful } from "../model/hand/details";
import { heldDepth, heldEdge } from "../model/server/session";
import { type AnyKind, KIND_ROWS, SIGN } from "../model/view/kinds";
import type { Span } from "../model/view/view";
import { firstPlace } from "../parts/search";
import { px } from "../parts/step";
import type { Palette } from "../parts/theme";
import { type Axis, GUTTER, type Scale } from "./axis";
import { type Context, clipToPicture, label, paper, type Scene } from "./scene";

export const RIBBON = px(32);
const FLOOR = px(25);
const MIDDLE = px(14);
/** Pixels that a sign needs; where marks lie closer, each is a tick. */
const ROOM = 9;
const NOTCH_STEPS = 16;

const longest = new WeakMap<Mark[], number>();

/** The marks that a window shows, of ``marks`` in order of time: O(log n) and those that are near. */
export function visibleMarks(marks: Mark[], window: Span): Mark[] {
  let reach = longest.get(marks);
  if (reach === undefined) {
    reach = marks.reduce((most, mark) => Math.max(most, mark.end - mark.start), 0);
    longest.set(marks, reach);
  }
  const earliest = window.start - reach;
  const shown: Mark[] = [];
  for (
    let i = firstPlace(marks.length, (k) => marks[k]!.start >= earliest);
    i < marks.length && marks[i]!.start < window.end;
    i++
  ) {
    if (marks[i]!.end > window.start) shown.push(marks[i]!);
  }
  return shown;
}

const paths = new Map<string, Path2D>();

function signPath(kind: AnyKind): Path2D {
  const known = paths.get(kind) ?? new Path2D(KIND_ROWS[kind].path);
  paths.set(kind, known);
  return known;
}

export function markColour(mark: Mark, palette: Palette): string {
  if (mark.lisp) return palette.loud;
  return mark.on ? palette.ink : palette.dim;
}

export function drawRibbon(ctx: Context, width: number, height: number, scene: Scene) {
  const { palette } = scene;
  const a = paper(ctx, width, height, scene);
  label(ctx, "marks", GUTTER - 6, height / 2, palette.dim);
  clipToPicture(ctx, width, height, () => {
    const shown = visibleMarks(scene.marks, scene.window).filter((mark) => scene.kinds.has(mark.kind));
    const few = shown.length * ROOM < (width - GUTTER) * 2;
    for (const mark of shown) {
      const x0 = a.x(heldEdge(mark, "start"));
      const x1 = Math.max(a.x(heldEdge(mark, "end")), x0 + 1);
      const chosen = scene.chosen.has(mark.id);
      if (chosen) drawChosen(ctx, x0, x1, height, palette);
      ctx.globalAlpha = mark.keep === "out" ? 0.45 : 1;
      ctx.strokeStyle = ctx.fillStyle = chosen ? palette.ink : markColour(mark, palette);
      const { along } = KIND_ROWS[mark.kind];
      if (along === "floor") drawFloor(ctx, x0, x1, mark.on);
      else if (along === "wave" && x1 - x0 > SIGN) drawWaveLine(ctx, x0, x1, mark.on);
      else if (few) drawSign(ctx, mark.kind, (x0 + x1) / 2, mark.on || chosen);
      else ctx.fillRect((x0 + x1) / 2, MIDDLE - 5, 1, 10);
      if (isDoubtful(mark) && few) drawDoubt(ctx, (x0 + x1) / 2);
      if (mark.keep === "out") ctx.fillRect(x0 - 1, MIDDLE, x1 - x0 + 2, 1);
      ctx.globalAlpha = 1;
    }
  });
}

/** What may be something else has a question mark over its sign. */
const drawDoubt = (ctx: Context, x: number) => label(ctx, "?", x, FLOOR, ctx.fillStyle as string, "center");

function drawChosen(ctx: Context, x0: number, x1: number, height: number, palette: Palette) {
  ctx.fillStyle = palette.band;
  ctx.fillRect(x0, 1, x1 - x0, height - 2);
  ctx.fillStyle = palette.ink;
  ctx.fillRect(x0 - 1, 1, 1.5, height - 2);
  ctx.fillRect(x1 - 0.5, 1, 1.5, height - 2);
}

function drawFloor(ctx: Context, x0: number, x1: number, on: boolean) {
  const size = on ? 2.4 : 1.4;
  for (let x = x0 + 3; x < x1 - 1; x += 6) ctx.fillRect(x - size / 2, FLOOR - size / 2, size, size);
}

function drawWaveLine(ctx: Context, x0: number, x1: number, on: boolean) {
  ctx.lineWidth = on ? 1.9 : 1.1;
  ctx.beginPath();
  for (let x = x0; x <= x1; x += 1.5) {
    const y = MIDDLE - 3.2 * Math.sin(((x - x0) / 9) * Math.PI * 2);
    if (x === x0) ctx.moveTo(x, y);
    else ctx.lineTo(x, y);
  }
  ctx.stroke();
}

function drawSign(ctx: Context, kind: AnyKind, x: number, strong: boolean) {
  const { line } = KIND_ROWS[kind];
  ctx.save();
  ctx.translate(x - SIGN / 2, MIDDLE - SIGN / 2);
  ctx.lineCap = "round";
  ctx.lineWidth = line * (strong ? 1.25 : 1);
  if (line > 0) ctx.stroke(signPath(kind));
  else if (strong) ctx.fill(signPath(kind));
  else {
    ctx.lineWidth = 1.1;
    ctx.stroke(signPath(kind));
  }
  ctx.restore();
}

// --- dips

/** The outline of a dip in seconds and dB, from its one outer end to the other. */
export function dipOutline(mark: Mark): [number, number][] {
  const depth = heldDepth(mark);
  const start = heldEdge(mark, "dip_start");
  const end = heldEdge(mark, "dip_end");
  const first = start - heldEdge(mark, "ramp_in");
  const last = end + heldEdge(mark, "ramp_out");
  if (!mark.notch)
    return [
      [first, 0],
      [start, depth],
      [end, depth],
      [last, 0],
    ];
  return Array.from({ length: NOTCH_STEPS + 1 }, (_, i) => {
    const share = i / NOTCH_STEPS;
    return [first + share * (last - first), depth * (0.5 - 0.5 * Math.cos(2 * Math.PI * share))];
  });
}

export function drawDips(ctx: Context, a: Axis, s: Scale, scene: Scene) {
  const { palette } = scene;
  const hatch = hatching(ctx, palette.dip);
  const zero = s.y(0);
  for (const mark of visibleMarks(scene.marks, { start: scene.window.start - 1, end: scene.window.end + 1 })) {
    const chosen = scene.chosen.has(mark.id);
    if (heldDepth(mark) >= 0 || (!chosen && !scene.kinds.has(mark.kind))) continue;
    // what a rule that is switched off would do is only hinted at, and only where one works on it
    if (!mark.on && !(scene.stage === "details" && (mark.keep !== "out" || chosen))) continue;
    const outline = dipOutline(mark).map(([t, db]) => [a.x(t), Math.min(s.y(db), s.y(s.low) + 8)] as const);
    ctx.beginPath();
    for (const [i, [x, y]] of outline.entries()) {
      if (i === 0) ctx.moveTo(x, zero);
      else ctx.lineTo(x, y);
    }
    ctx.strokeStyle = palette.dip;
    ctx.globalAlpha = scene.stage === "ride" ? 0.35 : 1;
    if (mark.on && scene.on.dips) {
      ctx.fillStyle = palette.dipFill;
      ctx.fill();
      ctx.fillStyle = hatch;
      ctx.fill();
      ctx.lineWidth = chosen ? 2.2 : 1.2;
      ctx.stroke();
    } else {
      ctx.globalAlpha = 0.6;
      ctx.lineWidth = chosen ? 1.8 : 1;
      ctx.setLineDash([3, 3]);
      ctx.stroke();
      ctx.setLineDash([]);
    }
    ctx.globalAlpha = 1;
    if (chosen && scene.chosen.size === 1 && scene.stage === "details") drawHandles(ctx, a, s, mark, palette);
  }
}

/** Where the handles of a dip lie: corners at its depth, and the outer ends of its ramps on the line of 0 dB. */
export function handles(a: Axis, s: Scale, mark: Mark) {
  const start = heldEdge(mark, "dip_start");
  const end = heldEdge(mark, "dip_end");
  const y = Math.min(s.y(heldDepth(mark)), s.y(s.low));
  return [
    { part: "ramp_in", x: a.x(start - heldEdge(mark, "ramp_in")), y: s.y(0) },
    { part: "ramp_out", x: a.x(end + heldEdge(mark, "ramp_out")), y: s.y(0) },
    { part: "dip_start", x: a.x(start), y },
    { part: "dip_end", x: a.x(end), y },
  ] as const;
}

function drawHandles(ctx: Context, a: Axis, s: Scale, mark: Mark, palette: Palette) {
  ctx.lineWidth = 1.6;
  ctx.strokeStyle = palette.ink;
  ctx.fillStyle = palette.panel;
  for (const { part, x, y } of handles(a, s, mark)) {
    ctx.beginPath();
    if (part.startsWith("ramp")) ctx.arc(x, y, 3.8, 0, Math.PI * 2);
    else ctx.rect(x - 3.2, y - 3.2, 6.4, 6.4);
    ctx.fill();
    ctx.stroke();
  }
}

const hatchings = new Map<string, CanvasPattern>();

function hatching(ctx: Context, colour: string): CanvasPattern | string {
  const known = hatchings.get(colour);
  if (known) return known;
  const tile = document.createElement("canvas");
  tile.width = tile.height = 8;
  const pen = tile.getContext("2d")!;
  pen.strokeStyle = colour;
  pen.lineWidth = 1;
  pen.globalAlpha = 0.75;
  pen.beginPath();
  for (const at of [-8, 0, 8]) {
    pen.moveTo(at - 1, 9);
    pen.lineTo(at + 9, -1);
  }
  pen.stroke();
  const pattern = ctx.createPattern(tile, "repeat");
  if (pattern) hatchings.set(colour, pattern);
  return pattern ?? colour;
}
