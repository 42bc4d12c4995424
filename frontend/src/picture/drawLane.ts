/** Drawing a lane: the clips of a take as small waves, in the height that their gain gives them; silence is bare paper. */
import type { Clip } from "../api/client";
import { hand, type Span } from "../model/view/view";
import type { Palette } from "../parts/theme";
import { type Axis, axis, GUTTER, meets, visible } from "./axis";
import { fillColumns } from "./drawStrips";
import { BORDER_GRIP, type Context, clipToPicture, label, stateColour } from "./scene";
import { columns, type Sound } from "./tiles";

export interface LaneScene {
  /** What tells this lane from others: its track and take. */
  lane: string;
  sound: Sound;
  clips: Clip[];
  /** The amplitude that fills the lane. */
  loudest: number;
  target: number;
  tolerance: number;
  window: Span;
  span: Span | null;
  selection: Set<string>;
  /** The take that a clip was chosen from, where that is another one. */
  from: (clip: Clip) => string | null;
  /** Whether this is what is heard of its track, and whether the track is in focus. */
  heard: boolean;
  focus: boolean;
  palette: Palette;
}

/** Pixels from which a clip says its words. */
const ROOM_FOR_WORDS = 60;

export function drawLane(ctx: Context, width: number, height: number, scene: LaneScene) {
  const { palette, clips, window } = scene;
  ctx.clearRect(0, 0, width, height);
  const a = axis(window, width);
  const held = hand.move;
  const isHeld = (clip: Clip) => held?.ids.has(clip.id) ?? false;
  const here = held !== null && held.lane === scene.lane;
  clipToPicture(ctx, width, height, () => {
    if (scene.span && scene.focus && scene.heard) {
      ctx.fillStyle = palette.span;
      ctx.fillRect(a.x(scene.span.start), 0, a.x(scene.span.end) - a.x(scene.span.start), height);
    }
    drawClips(
      ctx,
      a,
      height,
      scene,
      visible(clips, window).filter((clip) => !isHeld(clip)),
      0,
    );
    if (here && held.seconds !== 0) {
      const by = held.seconds;
      const shifted = { start: window.start - by, end: window.end - by };
      drawClips(ctx, a, height, scene, visible(clips, shifted).filter(isHeld), by);
    } else {
      ctx.globalAlpha = held && !here ? 0.45 : 1;
      drawClips(ctx, a, height, scene, visible(clips, window).filter(isHeld), 0);
      ctx.globalAlpha = 1;
    }
  });
}

/** Clips of a lane that lie ``by`` seconds from where they are kept. */
function drawClips(ctx: Context, a: Axis, height: number, scene: LaneScene, clips: Clip[], by: number) {
  if (clips.length === 0) return;
  const { palette, selection } = scene;
  const count = Math.max(0, Math.floor(a.width - GUTTER));
  const values = columns(scene.sound, scene.window.start - by, a.perPixel, count);
  const middle = height / 2;
  const size = (middle * 0.86) / scene.loudest;
  const factors = new Float32Array(count);
  for (const [i, clip] of clips.entries()) {
    const ends = endsOf(clip, by);
    const [x0, x1] = [a.x(ends.start), a.x(ends.end)];
    ctx.fillStyle = palette.panel;
    ctx.fillRect(x0, 1, x1 - x0, height - 2);
    if (selection.has(clip.id) && scene.focus && scene.heard) {
      ctx.fillStyle = palette.span;
      ctx.fillRect(x0, 1, x1 - x0, height - 2);
    }
    const factor = 10 ** (clip.gain / 20);
    for (let x = Math.max(0, Math.floor(x0 - GUTTER)); x < Math.min(count, Math.ceil(x1 - GUTTER)); x++)
      factors[x] = factor;
    drawEnds(ctx, x0, x1, height, palette, i > 0 && by === 0 && meets(clips[i - 1]!, clip));
  }
  // silence has no wave, not even a flat one
  for (let x = 0; x < count; x++) if (factors[x] === 0) values[2 * x] = Number.NaN;
  ctx.fillStyle = scene.heard ? palette.ink : palette.dim;
  ctx.globalAlpha *= scene.focus ? 0.82 : 0.5;
  fillColumns(ctx, values, count, middle, size, factors);
  ctx.globalAlpha = 1;
  for (const clip of clips) {
    const x0 = a.x(clip.start + by);
    const x1 = a.x(clip.end + by);
    if (clip.after !== null && clip.phrase_start !== null) {
      ctx.fillStyle = clip.left_out ? palette.grid : stateColour(clip.after - scene.target, scene.tolerance, palette);
      const from = a.x(clip.phrase_start + by);
      ctx.fillRect(from, height - 5, Math.max(a.x(clip.phrase_end! + by) - from, 2), 3);
    }
    const from = scene.from(clip);
    if (from) drawOrigin(ctx, x0, x1, from, palette);
    if (clip.label && scene.heard && height > 56 && x1 - x0 > ROOM_FOR_WORDS) {
      ctx.save();
      ctx.beginPath();
      ctx.rect(x0, 0, x1 - x0 - 4, height);
      ctx.clip();
      label(ctx, clip.label, Math.max(x0 + 5, GUTTER + 4), height - 13, palette.dim, "left");
      ctx.restore();
    }
    if (selection.has(clip.id) && scene.focus && scene.heard) {
      ctx.strokeStyle = palette.ink;
      ctx.lineWidth = 1.5;
      ctx.strokeRect(x0 + 1, 1.5, Math.max(x1 - x0 - 2, 2), height - 3);
    }
  }
}

/** A clip that was chosen from another take has a folded corner, and says which where there is room. */
function drawOrigin(ctx: Context, x0: number, x1: number, from: string, palette: Palette) {
  const fold = Math.min(9, (x1 - x0) / 2);
  ctx.fillStyle = palette.ink;
  ctx.beginPath();
  ctx.moveTo(x1 - fold, 1);
  ctx.lineTo(x1, 1);
  ctx.lineTo(x1, 1 + fold);
  ctx.fill();
  if (x1 - x0 < ROOM_FOR_WORDS) return;
  ctx.save();
  ctx.beginPath();
  ctx.rect(x0, 0, x1 - x0 - fold - 3, 20);
  ctx.clip();
  label(ctx, from, x1 - fold - 4, 11, palette.dim, "right");
  ctx.restore();
}

function endsOf(clip: Clip, by: number): Span {
  const { end } = hand;
  const span = { start: clip.start + by, end: clip.end + by };
  return end?.clip === clip.id ? { ...span, [end.edge]: end.at } : span;
}

/** The ends of a clip: fine lines, with a foot to take hold of. Where it follows its neighbour there is one line. */
function drawEnds(ctx: Context, x0: number, x1: number, height: number, palette: Palette, follows: boolean) {
  ctx.strokeStyle = palette.dim;
  ctx.lineWidth = 1;
  for (const x of follows ? [x1] : [x0, x1]) {
    const at = Math.round(x) + (x === x0 ? 0.5 : -0.5);
    ctx.globalAlpha = 0.5;
    ctx.beginPath();
    ctx.moveTo(at, 1);
    ctx.lineTo(at, height - 1);
    ctx.stroke();
    ctx.globalAlpha = 1;
    ctx.beginPath();
    ctx.moveTo(at, height - BORDER_GRIP);
    ctx.lineTo(at, height - 1);
    ctx.stroke();
  }
}
