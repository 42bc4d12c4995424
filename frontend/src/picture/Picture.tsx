/** The picture: level chart, wave, gain and overview over one time axis, worked directly with the hand. */
import { ActionIcon, useComputedColorScheme } from "@mantine/core";
import { useElementSize } from "@mantine/hooks";
import { IconChevronDown, IconChevronRight } from "@tabler/icons-react";
import { type PointerEvent as ReactPointer, useEffect, useMemo, useRef } from "react";
import type { Clip } from "../api/client";
import { PALETTES } from "../frame/theme";
import {
  changeGain,
  duration,
  focused,
  focusedClips,
  hearHand,
  moveBorder,
  phraseSpan,
  seek,
  show,
} from "../model/actions";
import { useCurve } from "../model/curve";
import { deviation, isJudged, trackOf, useSession } from "../model/session";
import { fitWindow, hand, redraw, type Stage, useView, zoomWindow } from "../model/view";
import { db, distanceUnit, signed, time } from "../parts/format";
import { engine } from "../sound/engine";
import { type Axis, axis, chartRange, clipIndexAt, GUTTER, visible } from "./axis";
import { Canvas } from "./Canvas";
import {
  BORDER_GRIP,
  CAPSULE,
  capsuleBox,
  chartScale,
  drawChart,
  drawGain,
  drawOverview,
  drawWave,
  gainScale,
  type Scene,
  type WaveMode,
} from "./draw";
import { ExactValue } from "./ExactValue";
import { HandLabel, hideAtHand, showAtHand } from "./HandLabel";
import { axisLock, isFree, snap, startDrag } from "./hands";
import { PlayLine } from "./PlayLine";

const SNAP = 7;
const MOST_HANDLES = 250;

/** Everything the strips draw from, as it is now. */
function useScene(): () => Scene | null {
  const scheme = useComputedColorScheme("light");
  // biome-ignore lint/correctness/useExhaustiveDependencies: the canvas does not follow the colours by itself
  useEffect(redraw, [scheme]);
  return () => {
    const header = useSession.getState().header;
    const track = focused();
    if (!header || !track) return null;
    const view = useView.getState();
    const curve = useCurve.getState();
    return {
      clips: focusedClips(),
      track,
      tolerance: header.rule.tolerance,
      window: view.window,
      span: view.span,
      selection: view.selection,
      draft: view.draft,
      trace: curve.track === track.id ? curve.trace : new Float32Array(0),
      points: curve.points,
      heard: !view.before && view.clipLayer,
      unit: distanceUnit(header.rule.unit),
      palette: PALETTES[scheme],
    };
  };
}

export function Picture({ stage }: { stage: Stage }) {
  const scene = useScene();
  const heights = useView((s) => s.heights);
  const folded = useView((s) => s.folded);
  const box = useRef<HTMLDivElement>(null);

  useEffect(() => {
    const element = box.current!;
    const wheel = (event: WheelEvent) => {
      event.preventDefault();
      const a = axis(useView.getState().window, element.clientWidth);
      const { window } = useView.getState();
      const x = event.clientX - element.getBoundingClientRect().left;
      const unit = event.deltaMode === 1 ? 16 : 1;
      if (event.ctrlKey || event.metaKey) {
        const next = zoomWindow(window, Math.exp(event.deltaY * unit * 0.0018), a.seconds(x), duration());
        useView.setState({ window: next });
      } else {
        const by = (event.deltaX || event.deltaY) * unit * a.perPixel;
        useView.setState({ window: fitWindow(window.start + by, window.end + by, duration()) });
      }
    };
    element.addEventListener("wheel", wheel, { passive: false });
    return () => element.removeEventListener("wheel", wheel);
  }, []);

  const wave = (mode: WaveMode, title: string) => (
    <Strip name={title} height={heights.wave} fold="wave" resize={mode === "overlay" ? "wave" : undefined}>
      <div
        className="strip-body"
        data-testid={`wave-${mode}`}
        onPointerDown={(e) => waveDown(e, mode === "overlay")}
        onPointerMove={waveHover}
      >
        <Canvas draw={(ctx, w, h) => withScene(scene, (s) => drawWave(ctx, w, h, s, mode))} />
      </div>
    </Strip>
  );

  return (
    <div className="picture" ref={box}>
      <div className="strip strip-chart">
        <Chart scene={scene} />
      </div>
      {stage === "deliver" ? (
        <>
          {!folded.wave && wave("before", "before")}
          {wave("after", "after")}
        </>
      ) : (
        <>
          {wave("overlay", "wave, the recording behind it")}
          <Strip name="clip gain and the sum" height={heights.gain} fold="gain" resize="gain">
            <div className="strip-body" data-testid="gain" onPointerDown={gainDown} onDoubleClick={gainDouble}>
              <Canvas draw={(ctx, w, h) => withScene(scene, (s) => drawGain(ctx, w, h, s))} />
            </div>
          </Strip>
        </>
      )}
      <div className="strip strip-overview" data-testid="overview" onPointerDown={overviewDown}>
        <Canvas
          draw={(ctx, w, h) => withScene(scene, (s) => drawOverview(ctx, w, h, s, chartRange(s.clips, s.track.target)))}
        />
      </div>
      <PlayLine />
      <HandLabel />
      <ExactValue />
    </div>
  );
}

function withScene(scene: () => Scene | null, work: (scene: Scene) => void) {
  const now = scene();
  if (now) work(now);
}

interface StripProps {
  name: string;
  height: number;
  fold: "wave" | "gain";
  resize?: "wave" | "gain";
  children: React.ReactNode;
}

/** A strip below the chart: its upper edge can be dragged, and it can be folded away. */
function Strip({ name, height, fold, resize, children }: StripProps) {
  const folded = useView((s) => s.folded[fold]);
  const setHeight = (value: number) => {
    const heights = { ...useView.getState().heights, [fold]: Math.min(Math.max(value, 56), 420) };
    useView.setState({ heights });
  };
  const grip = (event: ReactPointer) =>
    startDrag(event.nativeEvent, {
      move: (_, dy) => setHeight(height - dy),
      end: () => {},
      cancel: () => setHeight(height),
    });
  const toggle = () => useView.setState((s) => ({ folded: { ...s.folded, [fold]: !folded } }));
  return (
    <div className="strip" style={{ height: folded ? 20 : height }}>
      {resize && !folded && (
        <div
          className="strip-grip"
          role="separator"
          aria-orientation="horizontal"
          aria-valuenow={height}
          onPointerDown={grip}
        />
      )}
      <div className="strip-name">
        <ActionIcon
          size={16}
          variant="subtle"
          aria-label={folded ? `Unfold ${name}` : `Fold ${name} away`}
          aria-expanded={!folded}
          onClick={toggle}
        >
          {folded ? <IconChevronRight size={12} /> : <IconChevronDown size={12} />}
        </ActionIcon>
        {name}
      </div>
      {!folded && children}
    </div>
  );
}

// --- the level chart

function Chart({ scene }: { scene: () => Scene | null }) {
  const { ref, width, height } = useElementSize();
  return (
    <div
      className="strip-body"
      data-testid="chart"
      ref={ref}
      onPointerDown={(event) => chartDown(event)}
      onPointerMove={(event) => {
        const hit = hitCapsule(event.currentTarget, event.clientX, event.clientY);
        setHover(hit?.id ?? null);
        event.currentTarget.style.cursor = hit ? "ns-resize" : "";
      }}
      onPointerLeave={() => setHover(null)}
      onDoubleClick={(event) => {
        const hit = hitCapsule(event.currentTarget, event.clientX, event.clientY);
        if (hit) useView.setState({ exact: hit.id, selection: new Set([hit.id]) });
      }}
    >
      <Canvas
        draw={(ctx, w, h) => withScene(scene, (s) => drawChart(ctx, w, h, s, chartRange(s.clips, s.track.target)))}
      />
      <Capsules width={width} height={height} />
    </div>
  );
}

/** Every visible phrase for keyboard and screen reader; they lie where the drawn capsules lie. */
function Capsules({ width, height }: { width: number; height: number }) {
  const focus = useView((s) => s.focus);
  const window = useView((s) => s.window);
  const selection = useView((s) => s.selection);
  const all = useSession((s) => s.clips[trackOf(s, focus)?.id ?? ""]);
  const header = useSession((s) => s.header);
  const numbers = useMemo(() => {
    let n = 0;
    return new Map((all ?? []).filter((c) => c.after !== null).map((c) => [c.id, ++n]));
  }, [all]);
  const track = trackOf(useSession.getState(), focus);
  if (!all || !header || !track || width === 0) return null;
  const shown = visible(all, window).filter((clip) => clip.after !== null);
  if (shown.length > MOST_HANDLES) return null;
  const range = chartRange(all, track.target);
  const s = chartScale(range.low, range.high, height);
  const a = axis(window, width);
  return shown.map((clip) => {
    const { x, w } = capsuleBox(a, clip);
    const off = clip.after! - track.target;
    return (
      <button
        type="button"
        key={clip.id}
        className="capsule"
        data-clip={clip.id}
        aria-pressed={selection.has(clip.id)}
        aria-label={describe(clip, numbers.get(clip.id) ?? 0, off, header.rule.tolerance, header.rule.unit)}
        style={{ left: x - 2, width: w + 4, top: s.y(off) - CAPSULE / 2 - 3, height: CAPSULE + 6 }}
        onFocus={(event) => {
          if (event.currentTarget.matches(":focus-visible")) useView.setState({ selection: new Set([clip.id]) });
        }}
      />
    );
  });
}

/** A phrase in words, as in "Phrase 12, 0:31.200 to 0:34.900, 3.4 LU below target, gain +2.0 dB". */
export function describe(clip: Clip, number: number, off: number, tolerance: number, unit: string): string {
  const { start, end } = phraseSpan(clip);
  const distance = `${Math.abs(off).toFixed(1)} ${distanceUnit(unit)}`;
  const where = Math.abs(off) <= tolerance + 1e-9 ? "level" : `${distance} ${off > 0 ? "above" : "below"} target`;
  const flags = [clip.locked && "locked", clip.left_out && "left out", clip.reference && "reference"].filter(Boolean);
  return [`Phrase ${number}`, `${time(start)} to ${time(end)}`, where, `gain ${db(clip.gain)}`, ...flags].join(", ");
}

function setHover(id: string | null) {
  if (hand.hover === id) return;
  hand.hover = id;
  redraw();
}

function place(element: Element, clientX: number, clientY: number) {
  const box = element.getBoundingClientRect();
  return { x: clientX - box.left, y: clientY - box.top, width: box.width, height: box.height };
}

function hitCapsule(element: Element, clientX: number, clientY: number): Clip | null {
  const track = focused();
  if (!track) return null;
  const { x, y, width, height } = place(element, clientX, clientY);
  const clips = focusedClips();
  const { window } = useView.getState();
  const a = axis(window, width);
  const range = chartRange(clips, track.target);
  const s = chartScale(range.low, range.high, height);
  for (const clip of visible(clips, window)) {
    const off = deviation(clip, track.target);
    if (off === null) continue;
    const box = capsuleBox(a, clip);
    if (x >= box.x - 3 && x <= box.x + box.w + 3 && Math.abs(y - s.y(off)) <= CAPSULE / 2 + 4) return clip;
  }
  return null;
}

function chartDown(event: ReactPointer<HTMLElement>) {
  if (event.button !== 0) return;
  const element = event.currentTarget;
  const { x, y, width, height } = place(element, event.clientX, event.clientY);
  if (x < GUTTER) return;
  event.preventDefault();
  (document.activeElement as HTMLElement | null)?.blur();
  const clips = focusedClips();
  const track = focused()!;
  const range = chartRange(clips, track.target);
  const s = chartScale(range.low, range.high, height);
  const hit = hitCapsule(element, event.clientX, event.clientY);
  if (hit) return dragGain(event.nativeEvent, hit, s.perPixel);
  const a = axis(useView.getState().window, width);
  const more = event.shiftKey || isFree(event);
  const kept = useView.getState().selection;
  startDrag(event.nativeEvent, {
    move: (dx, dy) => {
      hand.lasso = { x0: x, y0: y, x1: x + dx, y1: y + dy };
      const [t0, t1] = [a.seconds(Math.min(x, x + dx)), a.seconds(Math.max(x, x + dx))];
      const [top, bottom] = [Math.min(y, y + dy), Math.max(y, y + dy)];
      const inside = visible(clips, { start: t0, end: t1 }).filter((clip) => {
        const off = deviation(clip, track.target);
        const span = phraseSpan(clip);
        if (off === null || span.end < t0 || span.start > t1) return false;
        return s.y(off) >= top - CAPSULE / 2 && s.y(off) <= bottom + CAPSULE / 2;
      });
      const ids = inside.map((clip) => clip.id);
      useView.setState({ selection: new Set(more ? [...kept, ...ids] : ids), span: null });
    },
    end: () => {
      hand.lasso = null;
      redraw();
    },
    cancel: () => {
      hand.lasso = null;
      useView.setState({ selection: kept });
    },
    click: () => {
      seek(a.seconds(x));
      if (!more) useView.setState({ selection: new Set(), span: null });
    },
  });
}

/** Drag a phrase, or all selected ones with it, up or down. Time cannot slip: only the vertical way counts. */
function dragGain(down: PointerEvent, clip: Clip, dbPerPixel: number) {
  const { selection } = useView.getState();
  const more = down.shiftKey || isFree(down);
  const chosen = selection.has(clip.id) ? selection : new Set(more ? [...selection, clip.id] : [clip.id]);
  const lock = axisLock();
  const track = focused()!;
  const unit = distanceUnit(useSession.getState().header!.rule.unit);
  let fineFrom = { dy: 0, delta: 0, fine: down.altKey };
  const reset = () => {
    hand.drag = { ids: new Set(), delta: 0 };
    hideAtHand();
    redraw();
  };
  startDrag(down, {
    move: (dx, dy, event) => {
      if (lock(dx, dy) === "x") return;
      useView.setState({ selection: chosen, span: null });
      if (clip.locked && chosen.size === 1) {
        showAtHand(event.clientX, event.clientY, ["locked", "L lets it go"]);
        return;
      }
      // Alt makes the hand ten times finer from where it is now on
      if (event.altKey !== fineFrom.fine) fineFrom = { dy, delta: hand.drag.delta, fine: event.altKey };
      const raw = fineFrom.delta - (dy - fineFrom.dy) * dbPerPixel * (event.altKey ? 0.1 : 1);
      const delta = Math.round(raw * 10) / 10;
      if (delta !== hand.drag.delta) hearHand(chosen, delta);
      hand.drag = { ids: new Set(chosen), delta };
      const off = deviation(clip, track.target);
      const lines = [`gain ${db(clip.gain + delta)}`];
      if (off !== null) lines.push(`${signed(off)} ${unit} from target`);
      if (chosen.size > 1) lines[0] = `${chosen.size} phrases ${db(delta)}`;
      showAtHand(event.clientX, event.clientY, lines);
      redraw();
    },
    end: () => {
      const { delta } = hand.drag;
      hideAtHand();
      if (delta === 0) return reset();
      void changeGain([...chosen], { by: delta }).finally(reset);
    },
    cancel: () => {
      engine.hold([], 0);
      reset();
    },
    click: () => {
      let ids = chosen;
      if (more) {
        ids = new Set(selection);
        if (!ids.delete(clip.id)) ids.add(clip.id);
        if (down.shiftKey && selection.size > 0 && !selection.has(clip.id)) ids = between(selection, clip);
      } else ids = new Set([clip.id]);
      useView.setState({ selection: ids, span: null });
      if (!more) seek(phraseSpan(clip).start);
    },
  });
}

/** Shift takes everything between what is selected and the phrase that was clicked. */
function between(selection: Set<string>, clip: Clip): Set<string> {
  const clips = focusedClips();
  const at = clips.flatMap((c, i) => (selection.has(c.id) || c.id === clip.id ? [i] : []));
  const range = clips.slice(Math.min(...at), Math.max(...at) + 1);
  return new Set(range.filter((c) => isJudged(c) || c.id === clip.id).map((c) => c.id));
}

// --- wave and gain

function borderNear(a: Axis, x: number): Clip | null {
  const clips = focusedClips();
  const i = clipIndexAt(clips, a.seconds(x));
  for (const clip of [clips[i - 1], clips[i]]) {
    if (clip && clip !== clips.at(-1) && Math.abs(a.x(clip.end) - x) <= 6) return clip;
  }
  return null;
}

function waveHover(event: ReactPointer<HTMLElement>) {
  const { x, y, width, height } = place(event.currentTarget, event.clientX, event.clientY);
  const near = y > height - BORDER_GRIP - 4 && borderNear(axis(useView.getState().window, width), x);
  event.currentTarget.style.cursor = near ? "ew-resize" : "";
}

function waveDown(event: ReactPointer<HTMLElement>, withBorders: boolean) {
  if (event.button !== 0) return;
  const { x, y, width, height } = place(event.currentTarget, event.clientX, event.clientY);
  if (x < GUTTER) return;
  event.preventDefault();
  (document.activeElement as HTMLElement | null)?.blur();
  const a = axis(useView.getState().window, width);
  const border = withBorders && y > height - BORDER_GRIP - 4 ? borderNear(a, x) : null;
  if (border) dragBorder(event.nativeEvent, a, border);
  else dragSpan(event.nativeEvent, a, x);
}

function dragBorder(down: PointerEvent, a: Axis, clip: Clip) {
  const clips = focusedClips();
  const next = clips[clips.indexOf(clip) + 1]!;
  const edges = [clip.phrase_end, next.phrase_start].filter((t) => t !== null);
  const reset = () => {
    hand.border = null;
    hideAtHand();
    redraw();
  };
  startDrag(down, {
    move: (dx, _, event) => {
      const raw = clip.end + dx * a.perPixel * (event.altKey ? 0.1 : 1);
      const at = isFree(event) ? raw : snap(raw, edges, SNAP * a.perPixel);
      hand.border = { clip: clip.id, at: Math.min(Math.max(at, clip.start + 0.02), next.end - 0.02) };
      showAtHand(event.clientX, event.clientY, [time(hand.border.at), edges.includes(at) ? "at the phrase" : "border"]);
      redraw();
    },
    end: () => {
      const at = hand.border?.at;
      hideAtHand();
      if (at === undefined) return reset();
      void moveBorder(clip.id, at).finally(reset);
    },
    cancel: reset,
    click: reset,
  });
}

/** Drag across: a span, with the phrases that lie in it. A click places the play line. */
function dragSpan(down: PointerEvent, a: Axis, x: number) {
  const clips = focusedClips();
  const before = { span: useView.getState().span, selection: useView.getState().selection };
  const edges = clips.flatMap((clip) => (clip.phrase_start === null ? [] : [clip.phrase_start, clip.phrase_end!]));
  const pull = (t: number, event: PointerEvent) => (isFree(event) ? t : snap(t, edges, SNAP * a.perPixel));
  startDrag(down, {
    move: (dx, _, event) => {
      const t0 = pull(a.seconds(x), event);
      const t1 = pull(a.seconds(x + dx), event);
      const span = { start: Math.max(0, Math.min(t0, t1)), end: Math.min(duration(), Math.max(t0, t1)) };
      const inside = clips.filter((clip) => {
        const middle = (phraseSpan(clip).start + phraseSpan(clip).end) / 2;
        return clip.after !== null && middle >= span.start && middle <= span.end;
      });
      useView.setState({ span, selection: new Set(inside.map((clip) => clip.id)) });
      showAtHand(event.clientX, event.clientY, [
        `${time(span.start)} to ${time(span.end)}`,
        time(span.end - span.start),
      ]);
    },
    end: hideAtHand,
    cancel: () => {
      hideAtHand();
      useView.setState(before);
    },
    click: () => {
      seek(a.seconds(x));
      useView.setState({ span: null, selection: new Set() });
    },
  });
}

function gainDown(event: ReactPointer<HTMLElement>) {
  if (event.button !== 0) return;
  const { x, y, width, height } = place(event.currentTarget, event.clientX, event.clientY);
  if (x < GUTTER) return;
  event.preventDefault();
  (document.activeElement as HTMLElement | null)?.blur();
  const a = axis(useView.getState().window, width);
  const clips = focusedClips();
  const clip = clips[clipIndexAt(clips, a.seconds(x))];
  const s = gainScale(clips, height);
  if (clip && Math.abs(y - s.y(clip.gain)) <= 6) dragGain(event.nativeEvent, clip, s.perPixel);
  else dragSpan(event.nativeEvent, a, x);
}

function gainDouble(event: React.MouseEvent<HTMLElement>) {
  const { x, width } = place(event.currentTarget, event.clientX, event.clientY);
  const clips = focusedClips();
  const clip = clips[clipIndexAt(clips, axis(useView.getState().window, width).seconds(x))];
  if (clip) useView.setState({ exact: clip.id, selection: new Set([clip.id]) });
}

// --- overview

function overviewDown(event: ReactPointer<HTMLElement>) {
  if (event.button !== 0) return;
  const { x, width } = place(event.currentTarget, event.clientX, event.clientY);
  event.preventDefault();
  const whole = axis({ start: 0, end: duration() }, width);
  const { window } = useView.getState();
  const [left, right] = [whole.x(window.start), whole.x(window.end)];
  const centre = (at: number) => {
    const half = (window.end - window.start) / 2;
    useView.setState({ window: fitWindow(at - half, at + half, duration()) });
  };
  const edge = Math.abs(x - left) < 5 ? "left" : Math.abs(x - right) < 5 ? "right" : null;
  const inside = x > left && x < right;
  startDrag(event.nativeEvent, {
    move: (dx) => {
      const by = dx * whole.perPixel;
      if (edge === "left") show({ start: Math.min(window.start + by, window.end - 0.1), end: window.end }, 0);
      else if (edge === "right") show({ start: window.start, end: Math.max(window.end + by, window.start + 0.1) }, 0);
      else if (inside) useView.setState({ window: fitWindow(window.start + by, window.end + by, duration()) });
      else centre(whole.seconds(x + dx));
    },
    end: () => {},
    cancel: () => useView.setState({ window }),
    click: () => {
      if (!inside) centre(whole.seconds(x));
      if (!engine.playing) seek(whole.seconds(x));
    },
  });
}
