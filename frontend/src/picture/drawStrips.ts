/** Drawing the strips below the chart: wave with its ghost, gain with the sum, overview. Nothing here changes anything. */
import type { Clip } from "../api/client";
import { overAll } from "../model/hand/hold";
import { gainAt } from "../model/heard/heard";
import { duration } from "../model/server/focus";
import { deviation, heldGain } from "../model/server/session";
import { hand } from "../model/view/view";
import { signed } from "../parts/format";
import type { Palette } from "../parts/theme";
import { type Axis, axis, clipIndexAt, GUTTER, meets, type Scale, scale, visible } from "./axis";
import { strokeLine } from "./drawLine";
import { drawDips } from "./drawMarks";
import { drawHeld, drawRide } from "./drawRide";
import {
  BORDER_GRIP,
  type Context,
  clipToPicture,
  drawnAt,
  gainScale,
  LOWEST_SHOWN,
  label,
  paper,
  type Scene,
  stateColour,
} from "./scene";
import { columns, soundOf } from "./tiles";

export type WaveMode = "overlay" | "before" | "after";

export function drawWave(ctx: Context, width: number, height: number, scene: Scene, mode: WaveMode) {
  const { palette, clips } = scene;
  const a = paper(ctx, width, height, scene);
  const middle = height / 2;
  const count = Math.max(0, Math.floor(width - GUTTER));
  const values = columns(soundOf(scene.track), scene.window.start, a.perPixel, count);
  const size = (middle * 0.94) / scene.loudest;
  ctx.strokeStyle = palette.grid;
  ctx.beginPath();
  ctx.moveTo(GUTTER, Math.round(middle) + 0.5);
  ctx.lineTo(width, Math.round(middle) + 0.5);
  ctx.stroke();
  clipToPicture(ctx, width, height, () => {
    const gained = mode === "after" || (mode === "overlay" && scene.heard);
    const factors = gainPerColumn(a, scene, count, gained);
    if (mode === "overlay" && gained) {
      ctx.fillStyle = palette.ghost;
      fillColumns(ctx, values, count, middle, size, null);
    }
    ctx.fillStyle = mode === "before" ? palette.dim : palette.ink;
    fillColumns(ctx, values, count, middle, size, factors);
    drawOvers(ctx, values, count, factors, height, palette);
    if (mode !== "overlay") return;
    ctx.lineWidth = 1;
    const shown = visible(clips, scene.window);
    if (shown.length < count / 16) {
      for (const [i, clip] of shown.entries()) {
        if (shown[i + 1] ? meets(clip, shown[i + 1]!) : clip.end < scene.window.end)
          drawBorder(ctx, a, clip, height, palette);
      }
    }
  });
}

/** The highest amplitude of a track, before or after: the strip is filled by it, so a quiet voice can be seen too. */
export function loudest(clips: Clip[]): number {
  let peak = -40;
  for (const clip of clips) peak = Math.max(peak, clip.peak, clip.peak + clip.gain);
  return Math.max(10 ** (peak / 20), 0.01);
}

function gainPerColumn(a: Axis, scene: Scene, count: number, gained: boolean): Float32Array | null {
  if (!gained) return null;
  const { clips, dips } = scene;
  const rate = scene.track.timeline.sample_rate;
  const held = scene.marks.filter((mark) => hand.dips.ids.has(mark.id));
  const factors = new Float32Array(count).fill(1);
  let i = clipIndexAt(clips, a.seconds(GUTTER));
  for (let x = 0; x < count; x++) {
    const t = a.seconds(GUTTER + x + 0.5);
    if (scene.track.follows) {
      // what its leader has, and its own trim
      factors[x] = 10 ** (gainAt(scene.points, t * rate) / 20);
      continue;
    }
    while (i < clips.length && clips[i]!.end <= t) i++;
    if (i >= clips.length) break;
    let db = scene.on.clip ? scene.ways.gain(i, t) : 0;
    if (scene.on.dips) {
      db += gainAt(dips, t * rate);
      for (const mark of held) if (mark.on && t >= mark.dip_start && t < mark.dip_end) db += hand.dips.delta;
    }
    db += drawnAt(scene, t);
    factors[x] = 10 ** (db / 20);
  }
  return factors;
}

export function fillColumns(
  ctx: Context,
  values: Float32Array,
  count: number,
  middle: number,
  size: number,
  factors: Float32Array | null,
) {
  for (let x = 0; x < count; x++) {
    const low = values[2 * x]!;
    if (Number.isNaN(low)) continue;
    const factor = (factors ? factors[x]! : 1) * size;
    const top = Math.max(middle - values[2 * x + 1]! * factor, 0);
    const bottom = Math.min(middle - low * factor, middle * 2);
    ctx.fillRect(GUTTER + x, top, 1, Math.max(bottom - top, 1));
  }
}

// an integer file that was clipped ends one step below full scale
const CLIPPED = 0.9995;

/** What reaches full scale is marked at the edge of the strip. */
function drawOvers(
  ctx: Context,
  values: Float32Array,
  count: number,
  factors: Float32Array | null,
  height: number,
  palette: Palette,
) {
  ctx.fillStyle = palette.loud;
  for (let x = 0; x < count; x++) {
    const factor = factors ? factors[x]! : 1;
    if (values[2 * x + 1]! * factor >= CLIPPED) ctx.fillRect(GUTTER + x, 0, 1, 3);
    if (values[2 * x]! * factor <= -CLIPPED) ctx.fillRect(GUTTER + x, height - 3, 1, 3);
  }
}

function drawBorder(ctx: Context, a: Axis, clip: Clip, height: number, palette: Palette) {
  const at = hand.border?.clip === clip.id ? hand.border.at : clip.end;
  const x = Math.round(a.x(at)) + 0.5;
  const held = hand.border?.clip === clip.id;
  ctx.strokeStyle = held ? palette.ink : palette.dim;
  ctx.globalAlpha = held ? 1 : 0.5;
  ctx.setLineDash([1, 3]);
  ctx.beginPath();
  ctx.moveTo(x, 0);
  ctx.lineTo(x, height - BORDER_GRIP);
  ctx.stroke();
  ctx.setLineDash([]);
  ctx.globalAlpha = 1;
  ctx.fillStyle = held ? palette.ink : palette.dim;
  ctx.beginPath();
  ctx.roundRect(x - 1.5, height - BORDER_GRIP + 1, 3, BORDER_GRIP - 2, 1.5);
  ctx.fill();
}

export function drawGain(ctx: Context, width: number, height: number, scene: Scene) {
  const { palette, clips } = scene;
  const a = paper(ctx, width, height, scene);
  const s = gainScale(clips, scene.marks, scene.points, scene.track, scene.stage, height);
  const step = (s.high - s.low) / height > 0.45 ? 12 : 6;
  for (let value = Math.ceil(s.low / step) * step; value <= s.high; value += step) {
    const y = Math.round(s.y(value)) + 0.5;
    ctx.strokeStyle = value === 0 ? palette.dim : palette.grid;
    ctx.lineWidth = 1;
    ctx.beginPath();
    ctx.moveTo(GUTTER, y);
    ctx.lineTo(width, y);
    ctx.stroke();
    label(ctx, value === 0 ? "0 dB" : signed(value, 0), GUTTER - 6, y, palette.dim);
  }
  clipToPicture(ctx, width, height, () => {
    if (scene.stage === "ride") drawRangeEnds(ctx, a, s, scene);
    // what is not worked on steps back
    const back = scene.stage === "ride" ? 0.4 : 1;
    const zero = s.y(0);
    const shown = visible(clips, scene.window);
    ctx.fillStyle = palette.ochreFill;
    ctx.globalAlpha = back * (scene.heard && scene.on.clip ? 1 : 0.4);
    const steps = shown.length ? clipSteps(scene, a, s, scene.ways.place(shown[0]!), shown.length) : [];
    for (const step of steps) {
      ctx.beginPath();
      ctx.moveTo(step[0]![0], zero);
      for (const [x, y] of step) ctx.lineTo(x, y);
      ctx.lineTo(step.at(-1)![0], zero);
      ctx.fill();
    }
    ctx.globalAlpha = scene.heard ? 1 : 0.4;
    drawCurve(ctx, width, a, s, scene);
    drawDips(ctx, a, s, scene);
    ctx.globalAlpha = back * (scene.heard && scene.on.clip ? 1 : 0.4);
    ctx.strokeStyle = palette.ochre;
    ctx.lineWidth = 1.6;
    for (const step of steps) {
      ctx.beginPath();
      for (const [x, y] of step) ctx.lineTo(x, y);
      ctx.stroke();
    }
    ctx.lineWidth = 3;
    for (const clip of shown) {
      if (!scene.selection.has(clip.id)) continue;
      const [from, to] = scene.ways.hold(scene.ways.place(clip));
      ctx.beginPath();
      ctx.moveTo(a.x(from), s.y(heldGain(clip)));
      ctx.lineTo(a.x(to), s.y(heldGain(clip)));
      ctx.stroke();
    }
    ctx.globalAlpha = 1;
    drawRide(ctx, width, a, s, scene);
  });
}

/** The clip gain as lines in the picture, one for each run of clips without silence between them, with its ways. */
function clipSteps({ clips, ways }: Scene, a: Axis, s: Scale, first: number, count: number): [number, number][][] {
  const lines: [number, number][][] = [];
  for (let place = first; place < first + count; place++) {
    const clip = clips[place]!;
    const joins = place > 0 && meets(clips[place - 1]!, clip);
    const goesOn = place + 1 < clips.length && meets(clip, clips[place + 1]!);
    const [from, to] = ways.hold(place);
    const y = s.y(heldGain(clip));
    if (place === first || !joins)
      lines.push(place > 0 && joins ? [[a.x(ways.after(place - 1)[0]), s.y(heldGain(clips[place - 1]!))]] : []);
    lines.at(-1)!.push([a.x(joins ? from : clip.start), y], [a.x(goesOn ? to : clip.end), y]);
    if (goesOn && place === first + count - 1)
      lines.at(-1)!.push([a.x(ways.after(place)[1]), s.y(heldGain(clips[place + 1]!))]);
  }
  return lines;
}

/** Where the working range ends: beyond it the paper is darker. */
function drawRangeEnds(ctx: Context, a: Axis, s: Scale, scene: Scene) {
  const { range_low, range_high } = scene.track;
  ctx.fillStyle = scene.palette.paper;
  const top = s.y(range_high);
  const bottom = s.y(Math.max(range_low, LOWEST_SHOWN));
  ctx.fillRect(GUTTER, 0, a.width - GUTTER, top);
  ctx.fillRect(GUTTER, bottom, a.width - GUTTER, s.y(s.low) + 4 - bottom);
}

/** The sum of all layers, compiled, with what the hand does and what is not compiled yet: a wide pale band. */
function drawCurve(ctx: Context, width: number, a: Axis, s: Scale, scene: Scene) {
  if (scene.points.at.length === 0) return;
  ctx.strokeStyle = ctx.fillStyle = scene.palette.sum;
  ctx.lineWidth = 7;
  ctx.lineJoin = "round";
  const over = overAll(scene.track.id);
  const rate = scene.track.timeline.sample_rate;
  if (over.at.length) drawHeld(ctx, a, s, width, scene.points, over, rate);
  else strokeLine(ctx, a, s, scene.points, rate);
}

export function drawOverview(
  ctx: Context,
  width: number,
  height: number,
  scene: Scene,
  range: { low: number; high: number },
) {
  const { palette, track, clips, tolerance, window } = scene;
  ctx.clearRect(0, 0, width, height);
  ctx.fillStyle = palette.panel;
  ctx.fillRect(GUTTER, 0, width - GUTTER, height);
  const whole = { start: 0, end: duration() };
  const a = axis(whole, width);
  const s = scale(range.low, range.high, 5, height - 5);
  ctx.fillStyle = palette.band;
  ctx.fillRect(GUTTER, s.y(tolerance), width - GUTTER, s.y(-tolerance) - s.y(tolerance));
  for (const clip of clips) {
    const value = deviation(clip, track.target);
    if (value === null || clip.before === null) continue;
    const x = a.x(clip.phrase_start!);
    const w = Math.max(a.x(clip.phrase_end!) - x, 2);
    if (Math.abs(clip.before - track.target - value) > 0.3) {
      ctx.fillStyle = palette.ghost;
      ctx.fillRect(x, s.y(clip.before - track.target) - 0.5, w, 1);
    }
    ctx.fillStyle = clip.left_out ? palette.grid : stateColour(value, tolerance, palette);
    ctx.fillRect(x, s.y(value) - 1.5, w, 3);
  }
  ctx.strokeStyle = palette.ink;
  ctx.lineWidth = 1.5;
  const x = a.x(window.start);
  ctx.beginPath();
  ctx.roundRect(x, 1, Math.max(a.x(window.end) - x, 4), height - 2, 3);
  ctx.stroke();
}
