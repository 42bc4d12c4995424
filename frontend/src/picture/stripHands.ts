/** Hands in the strips below the chart: borders, spans, clip gain, and the window in the overview. */
import type { MouseEvent as ReactMouse, PointerEvent as ReactPointer } from "react";
import type { Clip } from "../api/client";
import { duration, focusedClips, moveBorder, phraseSpan, seek, show } from "../model/actions";
import { lanePoints } from "../model/rideState";
import { fitWindow, hand, redraw, useView } from "../model/view";
import { time } from "../parts/format";
import { engine } from "../sound/engine";
import { type Axis, axis, clipIndexAt } from "./axis";
import { dragGain, place, takeHold } from "./chartHands";
import { hideAtHand, showAtHand } from "./HandLabel";
import { isFree, startDrag } from "./hands";
import { dipScale, dragDip, gainStripDouble, hitDip } from "./markHands";
import { rideDouble, rideDown } from "./rideHands";
import { BORDER_GRIP } from "./scene";
import { AT_PLACE, hidePull, snapper } from "./snapping";

function borderNear(a: Axis, x: number): Clip | null {
  const clips = focusedClips();
  const i = clipIndexAt(clips, a.seconds(x));
  for (const clip of [clips[i - 1], clips[i]]) {
    if (clip && clip !== clips.at(-1) && Math.abs(a.x(clip.end) - x) <= 6) return clip;
  }
  return null;
}

export function waveHover(event: ReactPointer<HTMLElement>) {
  const { x, y, width, height } = place(event.currentTarget, event.clientX, event.clientY);
  const near = y > height - BORDER_GRIP - 4 && borderNear(axis(useView.getState().window, width), x);
  event.currentTarget.style.cursor = near ? "ew-resize" : "";
}

export function waveDown(event: ReactPointer<HTMLElement>, withBorders: boolean) {
  const at = takeHold(event);
  if (!at) return;
  const { x, y, width, height } = at;
  const a = axis(useView.getState().window, width);
  const border = withBorders && y > height - BORDER_GRIP - 4 ? borderNear(a, x) : null;
  if (border) dragBorder(event.nativeEvent, a, border);
  else dragSpan(event.nativeEvent, a, x);
}

function dragBorder(down: PointerEvent, a: Axis, clip: Clip) {
  const clips = focusedClips();
  const next = clips[clips.indexOf(clip) + 1]!;
  const pulled = snapper(a);
  const reset = () => {
    hand.border = null;
    hideAtHand();
    hidePull();
    redraw();
  };
  startDrag(down, {
    move: (dx, _, event) => {
      const { at, kind, holds } = pulled(clip.end + dx * a.perPixel * (event.altKey ? 0.1 : 1), event);
      hand.border = { clip: clip.id, at: Math.min(Math.max(at, clip.start + 0.02), next.end - 0.02) };
      showAtHand(event.clientX, event.clientY, [time(hand.border.at), holds ? AT_PLACE[kind!] : "border"]);
      redraw();
    },
    end: () => {
      const at = hand.border?.at;
      hideAtHand();
      hidePull();
      if (at === undefined) return reset();
      void moveBorder(clip.id, at).finally(reset);
    },
    cancel: reset,
    click: reset,
  });
}

/** Drag across: a span, with the phrases that lie in it. A click places the play line, or does what it is told to. */
export function dragSpan(down: PointerEvent, a: Axis, x: number, click?: () => void) {
  const clips = focusedClips();
  const { span: oldSpan, selection: oldSelection, marks: oldMarks, points: oldPoints } = useView.getState();
  const before = { span: oldSpan, selection: oldSelection, marks: oldMarks, points: oldPoints };
  const isRide = useView.getState().stage === "ride";
  const pulled = snapper(a, isRide ? lanePoints().map((point) => point.at) : []);
  const first = pulled(a.seconds(x), down).at;
  startDrag(down, {
    move: (dx, _, event) => {
      const t0 = isFree(event) ? a.seconds(x) : first;
      const t1 = pulled(a.seconds(x + dx), event).at;
      const span = { start: Math.max(0, Math.min(t0, t1)), end: Math.min(duration(), Math.max(t0, t1)) };
      const inside = clips.filter((clip) => {
        const middle = (phraseSpan(clip).start + phraseSpan(clip).end) / 2;
        return clip.after !== null && middle >= span.start && middle <= span.end;
      });
      const ids = isRide ? [] : inside.map((clip) => clip.id);
      useView.setState({ span, selection: new Set(ids), marks: new Set(), points: new Set() });
      showAtHand(event.clientX, event.clientY, [
        `${time(span.start)} to ${time(span.end)}`,
        time(span.end - span.start),
      ]);
    },
    end: () => {
      hideAtHand();
      hidePull();
    },
    cancel: () => {
      hideAtHand();
      hidePull();
      useView.setState(before);
    },
    click: () => {
      hidePull();
      if (click) return click();
      seek(a.seconds(x));
      useView.setState({ span: null, selection: new Set(), marks: new Set(), points: new Set() });
    },
  });
}

export function gainDown(event: ReactPointer<HTMLElement>) {
  const at = takeHold(event);
  if (!at) return;
  const { x, y, width, height } = at;
  const a = axis(useView.getState().window, width);
  const clips = focusedClips();
  const clip = clips[clipIndexAt(clips, a.seconds(x))];
  const s = dipScale(height);
  if (useView.getState().stage === "ride") {
    if (!rideDown(event.nativeEvent, a, s, width, x, y)) dragSpan(event.nativeEvent, a, x);
    return;
  }
  const dip = hitDip(a, s, x, y);
  if (dip) return dragDip(event.nativeEvent, a, s, dip);
  if (clip && Math.abs(y - s.y(clip.gain)) <= 6) dragGain(event.nativeEvent, clip, s.perPixel);
  else dragSpan(event.nativeEvent, a, x);
}

export function gainDouble(event: ReactMouse<HTMLElement>) {
  if (useView.getState().stage === "ride") return rideDouble(event);
  if (gainStripDouble(event)) return;
  const { x, width } = place(event.currentTarget, event.clientX, event.clientY);
  const clips = focusedClips();
  const clip = clips[clipIndexAt(clips, axis(useView.getState().window, width).seconds(x))];
  if (clip) useView.setState({ exact: clip.id, selection: new Set([clip.id]) });
}

export function overviewDown(event: ReactPointer<HTMLElement>) {
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
