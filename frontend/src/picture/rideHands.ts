/** Hands on the ride in the gain strip: spans are lifted, points are moved along one axis at a time. */
import type { MouseEvent as ReactMouse, PointerEvent as ReactPointer } from "react";
import type { LanePoint } from "../api/client";
import { drawnLine, handRange, heldPoint, holdLine, kept, keptLift, liftLine, pointsLine } from "../model/hand/hold";
import { drawLine, liftSpan, movePoints, putPoint, selectPoints } from "../model/hand/ride";
import { laneOffset, lanePoints, lanes } from "../model/hand/rideState";
import { gainAt, gainSettled, heard } from "../model/heard/heard";
import { duration, selectedSpan } from "../model/server/focus";
import { trackOf, useSession } from "../model/server/session";
import { hand, isSilent, redraw, SILENCE, type Span, useView } from "../model/view/view";
import { db, time } from "../parts/format";
import { px } from "../parts/step";
import { type Axis, axis, type Scale } from "./axis";
import { place as placeOf } from "./chartHands";
import { shownPoints } from "./drawRide";
import { dipScale } from "./groundHands";
import { hideAtHand, showAtHand } from "./HandLabel";
import { axisLock, isFree, letGoAfter, startDrag } from "./hands";
import { LOWEST_SHOWN } from "./scene";
import { AT_PLACE, hidePull, snapper } from "./snapping";

const REACH = px(7);
const EDGE = px(4);
/** Seconds within which a point is that of an edge, and that a span lasts at least. */
const SAME = 1e-4;
const SHORTEST = 0.02;

function hitPoint(a: Axis, s: Scale, width: number, x: number, y: number): LanePoint | null {
  let best: LanePoint | null = null;
  let nearest = REACH;
  for (const hit of shownPoints(a, width)) {
    const lies = heldPoint(hit);
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

/** The edge of the selected span that the hand is on. */
function edgeUnder(a: Axis, x: number): "start" | "end" | null {
  const { span } = useView.getState();
  if (!span || a.x(span.end) - a.x(span.start) < 5 * EDGE) return null;
  for (const side of ["start", "end"] as const) if (Math.abs(a.x(span[side]) - x) <= EDGE) return side;
  return null;
}

export function rideHover(event: ReactPointer<HTMLElement>) {
  const { x, y, width, height } = placeOf(event.currentTarget, event.clientX, event.clientY);
  const a = axis(useView.getState().window, width);
  const hit = hitPoint(a, dipScale(height), width, x, y);
  event.currentTarget.style.cursor = hit ? "move" : edgeUnder(a, x) ? "ew-resize" : spanUnder(a, x) ? "ns-resize" : "";
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
  const side = edgeUnder(a, x);
  if (side) {
    dragSpanEdge(down, a, side);
    return true;
  }
  const span = spanUnder(a, x);
  if (!span) return false;
  dragLift(down, s, span);
  return true;
}

function dragLift(down: PointerEvent, s: Scale, span: Span) {
  let by = 0;
  startDrag(down, {
    move: (_, dy, event) => {
      by = keptLift(span, Math.round(-dy * s.perPixel * (event.altKey ? 0.1 : 1) * 10) / 10);
      holdLine(liftLine(span, by));
      showAtHand(event.clientX, event.clientY, [`lift ${db(by)}`, `${time(span.start)} to ${time(span.end)}`]);
    },
    end: () => {
      hideAtHand();
      if (by === 0) return holdLine([]);
      void liftSpan(span, by);
      holdLine([]);
    },
    cancel: () => {
      hideAtHand();
      holdLine([]);
    },
    click: () => useView.setState({ span: null, selection: new Set(), points: new Set() }),
  });
}

/** Draw freehand: the gain goes where the hand goes, in whatever direction. */
function dragLine(down: PointerEvent, a: Axis, s: Scale, x: number, y: number) {
  const reset = () => {
    hand.line = [];
    hideAtHand();
    holdLine([]);
  };
  let last = a.seconds(x);
  const { low, high } = handRange();
  const offset = laneOffset();
  const gainAtHand = (at: number) => {
    const value = Math.round((s.high - (at - s.y(s.high)) * s.perPixel) * 10) / 10 - offset;
    return value <= LOWEST_SHOWN && isSilent(low) ? SILENCE : Math.min(Math.max(value, low), high);
  };
  startDrag(down, {
    move: (dx, dy, event) => {
      const at = Math.min(Math.max(a.seconds(x + dx), 0), duration());
      const value = gainAtHand(y + dy);
      // what the hand passes over again is drawn anew
      const [from, to] = last < at ? [last, at] : [at, last];
      hand.line = [...hand.line.filter(([t]) => t === last || t < from || t > to), [at, value + offset]];
      hand.line.sort((m, n) => m[0] - n[0]);
      last = at;
      holdLine(drawnLine(hand.line));
      showAtHand(event.clientX, event.clientY, [isSilent(value) ? "silence" : db(value + offset), time(at)]);
    },
    end: () => {
      const line = hand.line.map(([at, value]): [number, number] => [at, value - offset]);
      hideAtHand();
      if (line.length < 2) return reset();
      void drawLine(line, drawnLine(hand.line));
      hand.line = [];
      holdLine([]);
    },
    cancel: reset,
    click: reset,
  });
}

function dropPoints() {
  hand.points = { ids: new Set(), seconds: 0, db: 0 };
  redraw();
}

/** How far points may move in time: between the neighbours that stay. */
function room(chosen: ReadonlySet<string>): { least: number; most: number } {
  const all = lanePoints();
  const first = all.findIndex((point) => chosen.has(point.id));
  const last = all.findLastIndex((point) => chosen.has(point.id));
  return {
    least: (all[first - 1]?.at ?? 0) - all[first]!.at,
    most: (all[last + 1]?.at ?? duration()) - all[last]!.at,
  };
}

/** An edge of the selected span, with the two points that a lift has made there. */
function dragSpanEdge(down: PointerEvent, a: Axis, side: "start" | "end") {
  const before = useView.getState().span!;
  const edge = before[side];
  const ramp = lanes()?.ramp ?? 0;
  const [from, to] = side === "start" ? [edge - ramp, edge] : [edge, edge + ramp];
  const isOfEdge = ({ at }: LanePoint) => at > from - SAME && at < to + SAME;
  const ids = new Set(lanePoints().flatMap((p) => (isOfEdge(p) ? [p.id] : [])));
  const pulled = snapper(
    a,
    lanePoints().flatMap((p) => (isOfEdge(p) ? [] : [p.at])),
  );
  const { least, most } = ids.size ? room(ids) : { least: -edge, most: duration() - edge };
  let seconds = 0;
  const hold = (by: number) => {
    seconds = by;
    useView.setState({ span: { ...before, [side]: edge + by } });
    if (!ids.size) return;
    hand.points = { ids, seconds, db: 0 };
    holdLine(pointsLine(ids, seconds, 0));
  };
  startDrag(down, {
    move: (dx, _, event) => {
      const { at, kind, holds } = pulled(edge + dx * a.perPixel * (event.altKey ? 0.1 : 1), event);
      const kept = side === "start" ? Math.min(at, before.end - SHORTEST) : Math.max(at, before.start + SHORTEST);
      hold(Math.min(Math.max(kept - edge, least), most));
      showAtHand(event.clientX, event.clientY, [time(edge + seconds), holds ? AT_PLACE[kind!] : "edge of the span"]);
    },
    end: () => {
      hideAtHand();
      hidePull();
      if (!ids.size || seconds === 0) return holdLine([]);
      letGoAfter(movePoints(ids, seconds, 0).then(gainSettled), "points", dropPoints);
      holdLine([]);
    },
    cancel: () => {
      hideAtHand();
      hidePull();
      dropPoints();
      holdLine([]);
      useView.setState({ span: before });
    },
  });
}

function dragPoints(down: PointerEvent, a: Axis, s: Scale, point: LanePoint) {
  const { points: selected } = useView.getState();
  const more = down.shiftKey || isFree(down);
  const chosen = selected.has(point.id) ? selected : new Set(more ? [...selected, point.id] : [point.id]);
  const lock = axisLock();
  const all = lanePoints();
  const lying = all.flatMap((p) => (chosen.has(p.id) ? [p.db] : []));
  const pulled = snapper(
    a,
    all.flatMap((p) => (chosen.has(p.id) ? [] : [p.at])),
  );
  const { least, most } = room(chosen);
  const hold = (seconds: number, by: number) => {
    hand.points = { ids: chosen, seconds, db: by };
    holdLine(pointsLine(chosen, seconds, by));
  };
  const reset = () => {
    dropPoints();
    hideAtHand();
    hidePull();
    holdLine([]);
  };
  startDrag(down, {
    move: (dx, dy, event) => {
      const fine = event.altKey ? 0.1 : 1;
      if (lock(dx, dy) === "y") {
        hold(0, kept(Math.round(-dy * s.perPixel * fine * 10) / 10, lying));
        showAtHand(event.clientX, event.clientY, [
          db(point.db + laneOffset() + hand.points.db),
          chosen.size > 1 ? `${chosen.size} points` : "point",
        ]);
      } else {
        const { at, kind, holds } = pulled(point.at + dx * a.perPixel * fine, event);
        hold(Math.min(Math.max(at - point.at, least), most), 0);
        showAtHand(event.clientX, event.clientY, [
          time(point.at + hand.points.seconds),
          holds ? AT_PLACE[kind!] : "point",
        ]);
      }
    },
    end: () => {
      const { seconds, db: by } = hand.points;
      hideAtHand();
      hidePull();
      if (seconds === 0 && by === 0) return reset();
      letGoAfter(movePoints(chosen, seconds, by).then(gainSettled), "points", dropPoints);
      holdLine([]);
      selectPoints(chosen);
    },
    cancel: reset,
    click: () => {
      const next = new Set(more ? selected : []);
      if (more && next.has(point.id)) next.delete(point.id);
      else next.add(point.id);
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
  const rate = trackOf(useSession.getState(), useView.getState().focus)?.timeline.sample_rate ?? 48000;
  const line = gainAt(heard()[useView.getState().lane], at * rate);
  const value = s.high - (y - s.y(s.high)) * s.perPixel;
  const wanted = Math.abs(value - line) < 6 * s.perPixel ? line : Math.round(value * 10) / 10;
  void putPoint(at, wanted - laneOffset());
}
