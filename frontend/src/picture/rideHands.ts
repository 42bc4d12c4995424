/** Hands on the ride in the gain strip: spans are lifted, points are moved along one axis at a time. */
import type { MouseEvent as ReactMouse, PointerEvent as ReactPointer } from "react";
import type { RidePoint } from "../api/client";
import { duration, focusedClips, selectedSpan } from "../model/actions";
import { gainAt, useCurve } from "../model/curve";
import {
  drawLine,
  hearLift,
  heldPoint,
  laneOffset,
  lanePoints,
  liftSpan,
  movePoints,
  putPoint,
  selectPoints,
} from "../model/ride";
import { trackOf, useSession } from "../model/session";
import { hand, redraw, type Span, useView } from "../model/view";
import { db, time } from "../parts/format";
import { engine } from "../sound/engine";
import { type Axis, axis, type Scale } from "./axis";
import { place as placeOf } from "./chartHands";
import { shownPoints } from "./drawRide";
import { hideAtHand, showAtHand } from "./HandLabel";
import { axisLock, isFree, snap, startDrag } from "./hands";
import { dipScale } from "./markHands";
import { SNAP } from "./stripHands";

const REACH = 7;

interface PointHit {
  point: RidePoint;
  place: number;
}

function hitPoint(a: Axis, s: Scale, width: number, x: number, y: number): PointHit | null {
  let best: PointHit | null = null;
  let nearest = REACH;
  for (const hit of shownPoints(a, width)) {
    const lies = heldPoint(hit.point, hit.place);
    const away = Math.hypot(a.x(lies.at) - x, s.y(Math.max(lies.db, s.low)) - y);
    if (away < nearest) {
      nearest = away;
      best = hit;
    }
  }
  return best;
}

/** The selected span that lies under the hand. */
function spanUnder(a: Axis, x: number): Span | null {
  const span = selectedSpan();
  return span && x >= a.x(span.start) - 2 && x <= a.x(span.end) + 2 ? span : null;
}

export function rideHover(event: ReactPointer<HTMLElement>) {
  const { x, y, width, height } = placeOf(event.currentTarget, event.clientX, event.clientY);
  const a = axis(useView.getState().window, width);
  const hit = hitPoint(a, dipScale(height), width, x, y);
  event.currentTarget.style.cursor = hit ? "move" : spanUnder(a, x) ? "ns-resize" : "";
}

/** Whether the ride takes what goes down at a place: a point, or a span to lift. */
export function rideDown(down: PointerEvent, a: Axis, s: Scale, width: number, x: number, y: number): boolean {
  const hit = hitPoint(a, s, width, x, y);
  if (hit) {
    dragPoints(down, a, s, hit);
    return true;
  }
  if (down.shiftKey) {
    dragLine(down, a, s, x, y);
    return true;
  }
  const span = spanUnder(a, x);
  if (!span) return false;
  dragLift(down, s, span);
  return true;
}

function dragLift(down: PointerEvent, s: Scale, span: Span) {
  const reset = () => {
    hand.lift = null;
    hideAtHand();
    redraw();
  };
  startDrag(down, {
    move: (_, dy, event) => {
      const by = Math.round(-dy * s.perPixel * (event.altKey ? 0.1 : 1) * 10) / 10;
      if (by !== hand.lift?.by) hearLift(span, by);
      hand.lift = { ...span, by };
      showAtHand(event.clientX, event.clientY, [`lift ${db(by)}`, `${time(span.start)} to ${time(span.end)}`]);
      redraw();
    },
    end: () => {
      const by = hand.lift?.by ?? 0;
      hideAtHand();
      if (by === 0) return reset();
      void liftSpan(span, by).finally(reset);
    },
    cancel: () => {
      engine.hold([], 0);
      reset();
    },
    click: () => useView.setState({ span: null, selection: new Set(), points: new Set() }),
  });
}

/** Draw freehand: the gain goes where the hand goes, in whatever direction. */
function dragLine(down: PointerEvent, a: Axis, s: Scale, x: number, y: number) {
  const reset = () => {
    hand.line = [];
    hideAtHand();
    redraw();
  };
  let last = a.seconds(x);
  const gainAtHand = (at: number) => s.high - (at - s.y(s.high)) * s.perPixel;
  startDrag(down, {
    move: (dx, dy, event) => {
      const at = Math.min(Math.max(a.seconds(x + dx), 0), duration());
      const value = Math.round(gainAtHand(y + dy) * 10) / 10;
      // what the hand passes over again is drawn anew
      const [low, high] = last < at ? [last, at] : [at, last];
      hand.line = [...hand.line.filter(([t]) => t === last || t < low || t > high), [at, value]];
      hand.line.sort((m, n) => m[0] - n[0]);
      last = at;
      showAtHand(event.clientX, event.clientY, [db(value), time(at)]);
      redraw();
    },
    end: () => {
      const offset = laneOffset();
      const line = hand.line.map(([at, value]): [number, number] => [at, value - offset]);
      hideAtHand();
      if (line.length < 2) return reset();
      void drawLine(line).finally(reset);
    },
    cancel: reset,
    click: reset,
  });
}

function dragPoints(down: PointerEvent, a: Axis, s: Scale, { point, place }: PointHit) {
  const { points: selected } = useView.getState();
  const more = down.shiftKey || isFree(down);
  const chosen = selected.has(place) ? selected : new Set(more ? [...selected, place] : [place]);
  const lock = axisLock();
  const all = lanePoints();
  const others = all.filter((_, i) => !chosen.has(i)).map((p) => p.at);
  const edges = focusedClips().flatMap((c) => (c.phrase_start === null ? [] : [c.phrase_start, c.phrase_end!]));
  // points stay between their neighbours
  const inside = [...chosen].sort((m, n) => m - n);
  const least = (all[inside[0]! - 1]?.at ?? 0) - all[inside[0]!]!.at;
  const most = (all[inside.at(-1)! + 1]?.at ?? duration()) - all[inside.at(-1)!]!.at;
  const reset = () => {
    hand.points = { ids: new Set(), seconds: 0, db: 0 };
    hideAtHand();
    redraw();
  };
  startDrag(down, {
    move: (dx, dy, event) => {
      const fine = event.altKey ? 0.1 : 1;
      if (lock(dx, dy) === "y") {
        const by = Math.round(-dy * s.perPixel * fine * 10) / 10;
        hand.points = { ids: chosen, seconds: 0, db: by };
        showAtHand(event.clientX, event.clientY, [
          db(point.db + laneOffset() + by),
          chosen.size > 1 ? `${chosen.size} points` : "point",
        ]);
      } else {
        const raw = point.at + dx * a.perPixel * fine;
        const at = isFree(event) ? raw : snap(raw, [...edges, ...others], SNAP * a.perPixel);
        const seconds = Math.min(Math.max(at - point.at, least), most);
        hand.points = { ids: chosen, seconds, db: 0 };
        showAtHand(event.clientX, event.clientY, [
          time(point.at + seconds),
          edges.includes(at) ? "at a phrase" : "point",
        ]);
      }
      redraw();
    },
    end: () => {
      const { seconds, db: by } = hand.points;
      hideAtHand();
      if (seconds === 0 && by === 0) return reset();
      void movePoints([...chosen], seconds, by).finally(reset);
      selectPoints(chosen);
    },
    cancel: reset,
    click: () => {
      const next = new Set(more ? selected : []);
      if (more && next.has(place)) next.delete(place);
      else next.add(place);
      selectPoints(next);
    },
  });
}

/** A double click makes a point where the hand is; on the line it lies on the line. */
export function rideDouble(event: ReactMouse<HTMLElement>) {
  const { x, y, width, height } = placeOf(event.currentTarget, event.clientX, event.clientY);
  const a = axis(useView.getState().window, width);
  const s = dipScale(height);
  if (hitPoint(a, s, width, x, y)) return;
  const at = a.seconds(x);
  const rate = trackOf(useSession.getState(), useView.getState().focus)?.recording.sample_rate ?? 48000;
  const { ride, trim } = useCurve.getState();
  const line = gainAt(useView.getState().lane === "ride" ? ride : trim, at * rate);
  const value = s.high - (y - s.y(s.high)) * s.perPixel;
  const wanted = Math.abs(value - line) < 6 * s.perPixel ? line : Math.round(value * 10) / 10;
  void putPoint(at, wanted - laneOffset());
}
