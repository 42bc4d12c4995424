/** Drawing the strips: pure functions from what is known to a canvas. Nothing here changes anything. */
import type { Clip, Draft, Track } from "../api/client";
import type { Palette } from "../frame/theme";
import { gainAt } from "../model/curve";
import { deviation, heldGain, isLevel } from "../model/session";
import { hand, type Span } from "../model/view";
import { clock, signed } from "../parts/format";
import type { GainPoints } from "../sound/worklet";
import { type Axis, axis, clipIndexAt, GUTTER, RULER, type Scale, scale, tickStep, visible } from "./axis";
import { columns } from "./tiles";

export const CAPSULE = 11;
const FONT = "11px 'JetBrains Mono Variable', monospace";

export interface Scene {
  clips: Clip[];
  track: Track;
  tolerance: number;
  window: Span;
  span: Span | null;
  selection: Set<string>;
  draft: Draft | null;
  trace: Float32Array;
  points: GainPoints;
  heard: boolean;
  unit: string;
  palette: Palette;
}

type Context = CanvasRenderingContext2D;

export function chartScale(low: number, high: number, height: number): Scale {
  return scale(low, high, RULER + 4, height - 6);
}

function paper(ctx: Context, width: number, height: number, scene: Scene): Axis {
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

function clipToPicture(ctx: Context, width: number, height: number, work: () => void) {
  ctx.save();
  ctx.beginPath();
  ctx.rect(GUTTER, 0, width - GUTTER, height);
  ctx.clip();
  work();
  ctx.restore();
}

function label(ctx: Context, text: string, x: number, y: number, colour: string, align: CanvasTextAlign = "right") {
  ctx.font = FONT;
  ctx.fillStyle = colour;
  ctx.textAlign = align;
  ctx.textBaseline = "middle";
  ctx.fillText(text, x, y);
}

function ruler(ctx: Context, a: Axis, scene: Scene, height: number) {
  const step = tickStep(a.perPixel, 84);
  const first = Math.ceil(scene.window.start / step) * step;
  ctx.strokeStyle = scene.palette.grid;
  ctx.lineWidth = 1;
  for (let t = first; t <= scene.window.end; t += step) {
    const x = Math.round(a.x(t)) + 0.5;
    ctx.beginPath();
    ctx.moveTo(x, RULER - 5);
    ctx.lineTo(x, height);
    ctx.stroke();
    const text = step < 1 ? clock(t) : clock(t).slice(0, -2);
    label(ctx, text, x + 4, 8, scene.palette.dim, "left");
  }
}

export function drawChart(
  ctx: Context,
  width: number,
  height: number,
  scene: Scene,
  range: { low: number; high: number },
) {
  const { palette, tolerance, track } = scene;
  const a = paper(ctx, width, height, scene);
  const s = chartScale(range.low, range.high, height);
  clipToPicture(ctx, width, height, () => {
    ruler(ctx, a, scene, height);
    ctx.fillStyle = palette.band;
    ctx.fillRect(GUTTER, s.y(tolerance), width - GUTTER, s.y(-tolerance) - s.y(tolerance));
  });
  for (let lu = Math.ceil(range.low / 3) * 3; lu <= range.high; lu += 3) {
    const y = Math.round(s.y(lu)) + 0.5;
    ctx.strokeStyle = lu === 0 ? palette.ink : palette.grid;
    ctx.beginPath();
    ctx.moveTo(GUTTER, y);
    ctx.lineTo(width, y);
    ctx.stroke();
    label(ctx, lu === 0 ? `0 ${scene.unit}` : signed(lu, 0), GUTTER - 6, y, lu === 0 ? palette.ink : palette.dim);
  }
  clipToPicture(ctx, width, height, () => {
    const shown = visible(scene.clips, scene.window);
    drawTrace(ctx, a, s, scene, shown);
    for (const clip of shown) drawPhrase(ctx, a, s, scene, clip, track.target);
    if (scene.draft) drawDraft(ctx, a, s, scene, scene.draft, shown);
    const { lasso } = hand;
    if (lasso) {
      ctx.setLineDash([4, 3]);
      ctx.strokeStyle = palette.draft;
      ctx.strokeRect(
        Math.min(lasso.x0, lasso.x1),
        Math.min(lasso.y0, lasso.y1),
        Math.abs(lasso.x1 - lasso.x0),
        Math.abs(lasso.y1 - lasso.y0),
      );
      ctx.setLineDash([]);
    }
  });
}

function drawTrace(ctx: Context, a: Axis, s: Scale, scene: Scene, clips: Clip[]) {
  const RATE = 20;
  const { trace, track, palette } = scene;
  if (trace.length === 0) return;
  ctx.strokeStyle = palette.dim;
  ctx.globalAlpha = 0.55;
  ctx.lineWidth = 1;
  const stride = Math.max(1, Math.floor(a.perPixel * RATE));
  ctx.beginPath();
  for (const clip of clips) {
    if (clip.phrase_start === null || clip.phrase_end === null) continue;
    const gain = scene.heard ? heldGain(clip) : 0;
    const last = Math.min(trace.length - 1, Math.floor(clip.phrase_end * RATE));
    let open = false;
    for (let i = Math.ceil(clip.phrase_start * RATE); i <= last; i += stride) {
      const y = s.y(Math.max(trace[i]! - track.target + gain, s.low - 3));
      const x = a.x((i + 0.5) / RATE);
      if (open) ctx.lineTo(x, y);
      else ctx.moveTo(x, y);
      open = true;
    }
  }
  ctx.stroke();
  ctx.globalAlpha = 1;
}

export function stateColour(value: number, tolerance: number, palette: Palette): string {
  if (isLevel(value, tolerance)) return palette.level;
  return value > 0 ? palette.loud : palette.quiet;
}

function capsule(ctx: Context, x: number, y: number, w: number) {
  ctx.beginPath();
  ctx.roundRect(x, y - CAPSULE / 2, w, CAPSULE, CAPSULE / 2);
}

export function capsuleBox(a: Axis, clip: Clip): { x: number; w: number } {
  const x = a.x(clip.phrase_start ?? clip.start);
  return { x, w: Math.max(a.x(clip.phrase_end ?? clip.end) - x, CAPSULE) };
}

function drawPhrase(ctx: Context, a: Axis, s: Scale, scene: Scene, clip: Clip, target: number) {
  const value = deviation(clip, target);
  if (value === null || clip.before === null) return;
  const { palette, tolerance } = scene;
  const { x, w } = capsuleBox(a, clip);
  const colour = clip.left_out ? palette.dim : stateColour(value, tolerance, palette);
  const y = s.y(value);
  const before = s.y(clip.before - target);
  const middle = x + w / 2;
  ctx.lineWidth = 1;
  ctx.strokeStyle = colour;
  if (Math.abs(before - y) > CAPSULE / 2) {
    ctx.setLineDash([3, 2]);
    capsule(ctx, x + 0.5, before, w - 1);
    ctx.stroke();
    ctx.setLineDash([]);
    const away = before > y ? 1 : -1;
    ctx.beginPath();
    ctx.moveTo(middle, y);
    ctx.lineTo(middle, before - (away * CAPSULE) / 2);
    ctx.stroke();
  }
  ctx.fillStyle = colour;
  if (clip.left_out) {
    ctx.setLineDash([2, 3]);
    capsule(ctx, x, y, w);
    ctx.stroke();
    ctx.setLineDash([]);
  } else {
    capsule(ctx, x, y, w);
    ctx.fill();
    if (!isLevel(value, tolerance)) {
      // the form says what the colour says: a notch towards where it is too far
      const up = value > 0 ? -1 : 1;
      const half = Math.min(5, w / 4);
      ctx.beginPath();
      ctx.moveTo(middle - half, y + (up * CAPSULE) / 2 - up);
      ctx.lineTo(middle, y + up * (CAPSULE / 2 + half));
      ctx.lineTo(middle + half, y + (up * CAPSULE) / 2 - up);
      ctx.fill();
    }
  }
  if (clip.locked) {
    ctx.strokeStyle = palette.ink;
    ctx.lineWidth = 2;
    for (const end of [x + 1, x + w - 1]) {
      ctx.beginPath();
      ctx.moveTo(end, y - CAPSULE / 2 - 2);
      ctx.lineTo(end, y + CAPSULE / 2 + 2);
      ctx.stroke();
    }
  }
  if (clip.reference) {
    ctx.fillStyle = palette.panel;
    ctx.beginPath();
    ctx.arc(middle, y, 3, 0, Math.PI * 2);
    ctx.fill();
  }
  if (scene.selection.has(clip.id) || hand.hover === clip.id) {
    ctx.strokeStyle = palette.ink;
    ctx.lineWidth = scene.selection.has(clip.id) ? 1.8 : 1;
    ctx.beginPath();
    ctx.roundRect(x - 4, y - CAPSULE / 2 - 4, w + 8, CAPSULE + 8, CAPSULE / 2 + 4);
    ctx.stroke();
  }
}

function drawDraft(ctx: Context, a: Axis, s: Scale, scene: Scene, draft: Draft, clips: Clip[]) {
  const items = new Map(draft.items.map((item) => [item.clip, item]));
  ctx.strokeStyle = scene.palette.draft;
  ctx.fillStyle = scene.palette.draft;
  for (const clip of clips) {
    const item = items.get(clip.id);
    if (!item || clip.after === null || Math.abs(item.gain - clip.gain) < 0.005) continue;
    const { x, w } = capsuleBox(a, clip);
    const from = s.y(clip.after - scene.track.target);
    const to = s.y(item.after - scene.track.target);
    const middle = x + w / 2 + 7;
    const down = to > from ? 1 : -1;
    ctx.lineWidth = 1.6;
    capsule(ctx, x, to, w);
    ctx.stroke();
    if (Math.abs(to - from) < CAPSULE) continue;
    const tip = to - (down * CAPSULE) / 2;
    ctx.beginPath();
    ctx.moveTo(middle, from + (down * CAPSULE) / 2);
    ctx.lineTo(middle, tip - down * 5);
    ctx.stroke();
    ctx.beginPath();
    ctx.moveTo(middle - 4, tip - down * 6);
    ctx.lineTo(middle, tip - down);
    ctx.lineTo(middle + 4, tip - down * 6);
    ctx.fill();
  }
}

export type WaveMode = "overlay" | "before" | "after";

export function drawWave(ctx: Context, width: number, height: number, scene: Scene, mode: WaveMode) {
  const { palette, clips } = scene;
  const a = paper(ctx, width, height, scene);
  const middle = height / 2;
  const count = Math.max(0, Math.floor(width - GUTTER));
  const values = columns(scene.track.recording.id, scene.window.start, a.perPixel, count);
  const size = (middle * 0.94) / loudest(clips);
  ctx.strokeStyle = palette.grid;
  ctx.beginPath();
  ctx.moveTo(GUTTER, Math.round(middle) + 0.5);
  ctx.lineTo(width, Math.round(middle) + 0.5);
  ctx.stroke();
  clipToPicture(ctx, width, height, () => {
    const gained = mode === "after" || (mode === "overlay" && scene.heard);
    const factors = gainPerColumn(a, clips, count, gained);
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
      for (const clip of shown.slice(0, -1)) drawBorder(ctx, a, clip, height, palette);
      if (shown.length && shown.at(-1)!.end < scene.window.end) drawBorder(ctx, a, shown.at(-1)!, height, palette);
    }
  });
}

/** The highest amplitude of a track, before or after: the strip is filled by it, so a quiet voice can be seen too. */
function loudest(clips: Clip[]): number {
  let peak = -40;
  for (const clip of clips) peak = Math.max(peak, clip.peak, clip.peak + clip.gain);
  return Math.max(10 ** (peak / 20), 0.01);
}

function gainPerColumn(a: Axis, clips: Clip[], count: number, gained: boolean): Float32Array | null {
  if (!gained) return null;
  const factors = new Float32Array(count).fill(1);
  let i = clipIndexAt(clips, a.seconds(GUTTER));
  let held = -1;
  let factor = 1;
  for (let x = 0; x < count; x++) {
    const t = a.seconds(GUTTER + x + 0.5);
    while (i < clips.length && clips[i]!.end <= t) i++;
    if (i >= clips.length) break;
    if (i !== held) {
      held = i;
      factor = 10 ** (heldGain(clips[i]!) / 20);
    }
    factors[x] = factor;
  }
  return factors;
}

function fillColumns(
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

/** What passes full scale is marked at the edge of the strip. */
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
    if (values[2 * x + 1]! * factor >= 1) ctx.fillRect(GUTTER + x, 0, 1, 3);
    if (values[2 * x]! * factor <= -1) ctx.fillRect(GUTTER + x, height - 3, 1, 3);
  }
}

export const BORDER_GRIP = 14;

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

export const GAIN_RANGE = { low: -14, high: 11 };

export function gainScale(clips: Clip[], height: number): Scale {
  let { low, high } = GAIN_RANGE;
  for (const clip of clips) {
    low = Math.min(low, clip.gain - 2);
    high = Math.max(high, clip.gain + 2);
  }
  return scale(low, high, 4, height - 4);
}

export function drawGain(ctx: Context, width: number, height: number, scene: Scene) {
  const { palette, clips } = scene;
  const a = paper(ctx, width, height, scene);
  const s = gainScale(clips, height);
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
    const zero = s.y(0);
    const shown = visible(clips, scene.window);
    ctx.fillStyle = palette.ochreFill;
    ctx.globalAlpha = scene.heard ? 1 : 0.4;
    for (const clip of shown) {
      const gain = heldGain(clip);
      const x = a.x(clip.start);
      if (gain !== 0) ctx.fillRect(x, Math.min(zero, s.y(gain)), a.x(clip.end) - x, Math.abs(s.y(gain) - zero));
    }
    if (hand.drag.delta === 0) drawCurve(ctx, a, s, scene);
    ctx.strokeStyle = palette.ochre;
    ctx.lineWidth = 1.6;
    for (const clip of shown) {
      const y = s.y(heldGain(clip));
      const chosen = scene.selection.has(clip.id);
      ctx.lineWidth = chosen ? 3 : 1.6;
      ctx.beginPath();
      ctx.moveTo(a.x(clip.start), y);
      ctx.lineTo(a.x(clip.end), y);
      ctx.stroke();
    }
    ctx.globalAlpha = 1;
  });
}

/** The sum of all layers, compiled: a wide pale band. */
function drawCurve(ctx: Context, a: Axis, s: Scale, scene: Scene) {
  const { points, window } = scene;
  const rate = scene.track.recording.sample_rate;
  if (points.at.length === 0) return;
  ctx.strokeStyle = scene.palette.sum;
  ctx.lineWidth = 7;
  ctx.lineJoin = "round";
  ctx.beginPath();
  ctx.moveTo(a.x(window.start), s.y(gainAt(points, window.start * rate)));
  for (let i = 0; i < points.at.length; i++) {
    const t = points.at[i]! / rate;
    if (t <= window.start) continue;
    if (t >= window.end) break;
    ctx.lineTo(a.x(t), s.y(points.db[i]!));
  }
  ctx.lineTo(a.x(window.end), s.y(gainAt(points, window.end * rate)));
  ctx.stroke();
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
  const whole = { start: 0, end: track.recording.duration };
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
