/** Drawing the strip of the stage Balance: the distance of voice and bed, or the work of the compressor before and after. */
import {
  apart,
  balanceState,
  bedFigures,
  COURSE_RATE,
  heldApart,
  keeps,
  LOAD_RATE,
  loadFigures,
  useBalance,
  wantedDistance,
} from "../model/drafts/balance";
import { useSession } from "../model/server/session";
import { signed } from "../parts/format";
import { type Axis, GUTTER, type Scale, scale, visible } from "./axis";
import { type Context, clipToPicture, label, paper, type Scene } from "./scene";

const SILENT = -99;
const NOTHING = new Float32Array(0);
const BAR = 5;

function lines(ctx: Context, width: number, s: Scale, scene: Scene, values: number[], name: (value: number) => string) {
  for (const value of values) {
    const y = Math.round(s.y(value)) + 0.5;
    ctx.strokeStyle = value === 0 ? scene.palette.dim : scene.palette.grid;
    ctx.lineWidth = 1;
    ctx.beginPath();
    ctx.moveTo(GUTTER, y);
    ctx.lineTo(width, y);
    ctx.stroke();
    label(ctx, name(value), GUTTER - 6, y, scene.palette.dim);
  }
}

/** How far the voice stands above the bed: the course of it, a bar for each phrase, and the drafted ones hollow. */
export function drawDistance(ctx: Context, width: number, height: number, scene: Scene) {
  const { palette, window } = scene;
  const { duckDraft } = useBalance.getState();
  const figures = bedFigures();
  const distance = figures?.distance ?? null;
  const a = paper(ctx, width, height, scene);
  const wanted = wantedDistance();
  const known = (distance?.phrases ?? []).flatMap((phrase) => apart(phrase) ?? []);
  const high = Math.min(Math.max(18, (wanted ?? 0) + 9, ...known.map((value) => value + 2)), 45);
  const low = Math.max(Math.min(-3, ...known.map((value) => value - 2)), -24);
  const s = scale(low, high, 18, height - 4);
  if (wanted !== null) {
    ctx.fillStyle = palette.band;
    ctx.fillRect(GUTTER, 0, width - GUTTER, s.y(wanted));
  }
  const marks = [];
  for (let value = Math.ceil(low / 6) * 6; value <= high; value += 6) marks.push(value);
  lines(ctx, width, s, scene, marks, (value) => (value === 0 ? "0 LU" : signed(value, 0)));
  if (!distance || wanted === null) {
    label(ctx, "no bed sounds", GUTTER + 10, height / 2, palette.dim, "left");
    return;
  }
  clipToPicture(ctx, width, height, () => {
    const clips = useSession.getState().clips;
    const drafted = new Map(duckDraft?.phrases.map((phrase) => [phrase.clip, phrase.after]));
    drawCourse(ctx, a, s, scene, figures?.course ?? NOTHING);
    ctx.strokeStyle = palette.level;
    ctx.setLineDash([6, 3]);
    ctx.beginPath();
    ctx.moveTo(GUTTER, s.y(wanted));
    ctx.lineTo(width, s.y(wanted));
    ctx.stroke();
    ctx.setLineDash([]);
    const places = new Map(
      [...new Set(distance.phrases.map((phrase) => phrase.track))].flatMap((track) =>
        visible(clips[track] ?? [], window).map((clip) => [clip.id, clip] as const),
      ),
    );
    for (const phrase of distance.phrases) {
      const clip = places.get(phrase.clip);
      const value = apart(phrase);
      if (!clip || value === null) continue;
      const x = a.x(clip.phrase_start ?? clip.start);
      const w = Math.max(a.x(clip.phrase_end ?? clip.end) - x, 3);
      const kept = keeps(value, wanted);
      const y = s.y(value);
      ctx.fillStyle = ctx.strokeStyle = kept ? palette.level : palette.loud;
      ctx.beginPath();
      ctx.roundRect(x, y - BAR / 2, w, BAR, BAR / 2);
      ctx.fill();
      if (!kept) {
        // a foot on what is too close, so that it is not told by colour alone
        ctx.beginPath();
        ctx.moveTo(x + w / 2, y);
        ctx.lineTo(x + w / 2, Math.min(y + 9, height));
        ctx.stroke();
      }
      if (scene.selection.has(clip.id)) {
        ctx.strokeStyle = palette.ink;
        ctx.beginPath();
        ctx.roundRect(x - 3, y - BAR / 2 - 3, w + 6, BAR + 6, 5);
        ctx.stroke();
      }
      const after = drafted.get(phrase.clip);
      if (after == null) continue;
      ctx.strokeStyle = palette.draft;
      ctx.lineWidth = 1.5;
      ctx.beginPath();
      ctx.roundRect(x, s.y(after) - BAR / 2, w, BAR, BAR / 2);
      ctx.stroke();
      ctx.lineWidth = 1;
    }
  });
}

/** Which values of a course, so many a second, lie in the window, and every how many of them are drawn. */
function shown(a: Axis, scene: Scene, course: Float32Array, rate: number) {
  const first = Math.max(0, Math.floor(scene.window.start * rate));
  const last = Math.min(course.length / 2 - 1, Math.ceil(scene.window.end * rate));
  return { first, last, stride: Math.max(1, Math.floor(a.perPixel * rate)) };
}

/** The distance from moment to moment, where both sound. */
function drawCourse(ctx: Context, a: Axis, s: Scale, scene: Scene, course: Float32Array) {
  const by = heldApart(scene.track.kind === "voice" ? scene.track.id : "");
  const { first, last, stride } = shown(a, scene, course, COURSE_RATE);
  ctx.strokeStyle = scene.palette.dim;
  ctx.globalAlpha = 0.7;
  ctx.beginPath();
  let open = false;
  for (let i = first; i <= last; i += stride) {
    const [voice, bed] = [course[2 * i]!, course[2 * i + 1]!];
    if (voice <= SILENT || bed <= SILENT) {
      open = false;
      continue;
    }
    const [x, y] = [a.x(i / COURSE_RATE), s.y(voice - bed + by)];
    if (open) ctx.lineTo(x, y);
    else ctx.moveTo(x, y);
    open = true;
  }
  ctx.stroke();
  ctx.globalAlpha = 1;
}

/** The loudness of the bed under the capsules of the level chart: ground that the voice stands on. */
export function drawBed(ctx: Context, a: Axis, s: Scale, scene: Scene, height: number) {
  const { leaf } = useBalance.getState();
  const course = bedFigures()?.course ?? NOTHING;
  if (scene.stage !== "balance" || leaf !== "bed" || scene.unit !== "LU" || course.length === 0) return;
  const by = heldApart("");
  const { first, last, stride } = shown(a, scene, course, COURSE_RATE);
  ctx.beginPath();
  ctx.moveTo(a.x(first / COURSE_RATE), height);
  for (let i = first; i <= last; i += stride) {
    const level = course[2 * i + 1]!;
    ctx.lineTo(a.x(i / COURSE_RATE), level <= SILENT ? height : s.y(level - by - scene.track.target));
  }
  ctx.lineTo(a.x(last / COURSE_RATE), height);
  ctx.fillStyle = scene.palette.sum;
  ctx.fill();
}

/** What the compressor takes away, hanging from 0 dB: before as a ghost, after as a line. */
export function drawLoad(ctx: Context, width: number, height: number, scene: Scene) {
  const { palette } = scene;
  const { course, most: highest } = loadFigures() ?? { course: NOTHING, most: 0 };
  const { working, missing } = balanceState();
  const a = paper(ctx, width, height, scene);
  const most = Math.max(11, highest + 1);
  const s = scale(-most, 0.6, 18, height - 4);
  lines(
    ctx,
    width,
    s,
    scene,
    [0, -3, -6, -10, -15, -20].filter((value) => value > -most),
    (value) => (value === 0 ? "0 dB" : signed(value, 0)),
  );
  const count = course.length / 2;
  if (count === 0) {
    const why = working ? "analysing …" : missing ? "not calculated" : "no voice to compress";
    label(ctx, why, GUTTER + 10, height / 2, palette.dim, "left");
    return;
  }
  clipToPicture(ctx, width, height, () => {
    const { first, last, stride } = shown(a, scene, course, LOAD_RATE);
    const trace = (side: 0 | 1) => {
      for (let i = first; i <= last; i += stride) {
        let value = 0;
        for (let k = i; k < Math.min(i + stride, count); k++) value = Math.max(value, course[2 * k + side]!);
        ctx.lineTo(a.x((i + 0.5) / LOAD_RATE), s.y(-value));
      }
    };
    ctx.fillStyle = palette.ghost;
    ctx.beginPath();
    ctx.moveTo(a.x(first / LOAD_RATE), s.y(0));
    trace(0);
    ctx.lineTo(a.x(last / LOAD_RATE), s.y(0));
    ctx.fill();
    ctx.strokeStyle = palette.ride;
    ctx.lineWidth = 1.6;
    ctx.beginPath();
    trace(1);
    ctx.stroke();
    ctx.lineWidth = 1;
  });
}
