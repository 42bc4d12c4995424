/** Drawing the level chart: band, trace, capsules before and after, and the draft over them. Nothing here changes anything. */
import type { Clip, Draft } from "../api/client";
import { deviation, heldGain, isLevel } from "../model/server/session";
import { hand } from "../model/view/view";
import { clock, signed, time } from "../parts/format";
import { type Axis, GUTTER, RULER, type Scale, tickStep, visible } from "./axis";
import { drawBed } from "./drawBalance";
import {
  CAPSULE,
  type Context,
  capsuleBox,
  chartScale,
  clipToPicture,
  drawnAt,
  label,
  paper,
  type Scene,
  stateColour,
} from "./scene";

export function ruler(ctx: Context, a: Axis, scene: Pick<Scene, "window" | "palette">, height: number) {
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
    const text = step < 0.1 ? time(t).slice(0, -1) : step < 1 ? clock(t) : clock(t).slice(0, -2);
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
  const { palette, track } = scene;
  const a = paper(ctx, width, height, scene);
  const s = chartScale(range.low, range.high, height);
  clipToPicture(ctx, width, height, () => {
    ruler(ctx, a, scene, height);
    drawBand(ctx, width, a, s, scene);
    drawBed(ctx, a, s, scene, height);
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

/** The band that is level: what was asked for of a phrase moves it there. */
function drawBand(ctx: Context, width: number, a: Axis, s: Scale, { palette, tolerance, clips, window }: Scene) {
  ctx.fillStyle = palette.band;
  let from = GUTTER;
  const fill = (until: number, wish: number) => {
    if (until > from) ctx.fillRect(from, s.y(wish + tolerance), until - from, s.y(-tolerance) - s.y(tolerance));
    from = Math.max(from, until);
  };
  for (const clip of visible(clips, window)) {
    fill(a.x(clip.start), 0);
    fill(Math.min(a.x(clip.end), width), clip.wish);
  }
  fill(width, 0);
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
    const gain = scene.heard && scene.on.clip ? heldGain(clip) : 0;
    const last = Math.min(trace.length - 1, Math.floor(clip.phrase_end * RATE));
    let open = false;
    for (let i = Math.ceil(clip.phrase_start * RATE); i <= last; i += stride) {
      const t = (i + 0.5) / RATE;
      const drawn = scene.heard ? drawnAt(scene, t) : 0;
      const y = s.y(Math.max(trace[i]! - track.target + gain + drawn, s.low - 3));
      const x = a.x(t);
      if (open) ctx.lineTo(x, y);
      else ctx.moveTo(x, y);
      open = true;
    }
  }
  ctx.stroke();
  ctx.globalAlpha = 1;
}

function capsule(ctx: Context, x: number, y: number, w: number) {
  ctx.beginPath();
  ctx.roundRect(x, y - CAPSULE / 2, w, CAPSULE, CAPSULE / 2);
}

function drawPhrase(ctx: Context, a: Axis, s: Scale, scene: Scene, clip: Clip, target: number) {
  const value = deviation(clip, target);
  if (value === null || clip.before === null) return;
  const { palette, tolerance } = scene;
  const { x, w } = capsuleBox(a, clip);
  const colour = clip.left_out ? palette.dim : stateColour(value, tolerance, palette);
  const y = s.y(value + clip.wish);
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
