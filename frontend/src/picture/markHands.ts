/** Hands on marks in the ribbon and on dips in the gain strip: their depth, their edges, their ramps. */
import type { PointerEvent as ReactPointer } from "react";
import type { Mark } from "../api/client";
import { changeDepth, hearDips, keepEdges, selectMarks, standsIn } from "../model/hand/details";
import { seek } from "../model/heard/listening";
import { duration, focusedClips, focusedMarks } from "../model/server/focus";
import { heldDepth, useSession } from "../model/server/session";
import { KIND_ROWS } from "../model/view/kinds";
import { type EdgeName, hand, redraw, useView } from "../model/view/view";
import { db, signed, time } from "../parts/format";
import { px } from "../parts/step";
import { type Axis, axis, type Scale } from "./axis";
import { place, takeHold } from "./chartHands";
import { dipOutline, handles, visibleMarks } from "./drawMarks";
import { dragSpan } from "./groundHands";
import { hideAtHand, showAtHand } from "./HandLabel";
import { axisLock, isFree, snap, startDrag } from "./hands";
import { SNAP } from "./snapping";

const REACH = px(5);

/** The mark under the hand in the ribbon: the shortest of those that lie there, so that a gap never hides what is in it. */
export function hitMark(a: Axis, x: number): Mark | null {
  const { window, kinds } = useView.getState();
  let best: Mark | null = null;
  for (const mark of visibleMarks(focusedMarks(), window)) {
    if (!kinds.has(mark.kind) || x < a.x(mark.start) - REACH || x > a.x(mark.end) + REACH) continue;
    if (!best || mark.end - mark.start < best.end - best.start) best = mark;
  }
  return best;
}

function edgeNear(a: Axis, x: number): { mark: Mark; name: "start" | "end" } | null {
  const { marks } = useView.getState();
  if (marks.size !== 1) return null;
  for (const mark of focusedMarks()) {
    if (!marks.has(mark.id)) continue;
    for (const name of ["start", "end"] as const) if (Math.abs(a.x(mark[name]) - x) <= REACH) return { mark, name };
  }
  return null;
}

export function ribbonHover(event: ReactPointer<HTMLElement>) {
  const { x, width } = place(event.currentTarget, event.clientX, event.clientY);
  const a = axis(useView.getState().window, width);
  event.currentTarget.style.cursor = edgeNear(a, x) ? "ew-resize" : hitMark(a, x) ? "pointer" : "";
}

export function ribbonDown(event: ReactPointer<HTMLElement>) {
  const at = takeHold(event);
  if (!at) return;
  const a = axis(useView.getState().window, at.width);
  const edge = edgeNear(a, at.x);
  if (edge) return dragEdge(event.nativeEvent, a, edge.mark, edge.name);
  const mark = hitMark(a, at.x);
  if (mark) return pick(event.nativeEvent, mark, a, at.x);
  dragSpan(event.nativeEvent, a, at.x);
}

/** A click takes a mark, with Shift or Ctrl another one as well; a drag from it draws a span like everywhere else. */
function pick(down: PointerEvent, mark: Mark, a: Axis, x: number) {
  dragSpan(down, a, x, () => {
    const { marks } = useView.getState();
    const more = down.shiftKey || isFree(down);
    const ids = more ? new Set(marks) : new Set<string>();
    if (more && ids.has(mark.id)) ids.delete(mark.id);
    else ids.add(mark.id);
    selectMarks(ids);
    if (!more) seek(mark.start);
  });
}

/** Where edges are pulled to: edges of phrases and of other marks. */
function places(mark: Mark, name: EdgeName): number[] {
  const own = name === "start" || name === "end" ? [] : [mark.start, mark.end];
  const phrases = focusedClips().flatMap((c) => (c.phrase_start === null ? [] : [c.phrase_start, c.phrase_end!]));
  const others = visibleMarks(focusedMarks(), useView.getState().window).filter((other) => other.id !== mark.id);
  return [...own, ...phrases, ...others.flatMap((other) => [other.start, other.end])];
}

/** Move an edge of a mark, or an edge or ramp of its dip; only along time. */
function dragEdge(down: PointerEvent, a: Axis, mark: Mark, name: EdgeName) {
  const targets = places(mark, name);
  const reset = () => {
    hand.edge = null;
    hideAtHand();
    redraw();
  };
  const isRamp = name === "ramp_in" || name === "ramp_out";
  const outer = name === "ramp_in" ? mark.dip_start - mark.ramp_in : mark.dip_end + mark.ramp_out;
  startDrag(down, {
    move: (dx, _, event) => {
      const raw = (isRamp ? outer : mark[name]) + dx * a.perPixel * (event.altKey ? 0.1 : 1);
      const at = isFree(event) ? raw : snap(raw, targets, SNAP * a.perPixel);
      const value = edgeValue(mark, name, Math.min(Math.max(at, 0), duration()));
      hand.edge = { mark: mark.id, values: { [name]: value } };
      const said = isRamp ? `ramp ${(value * 1000).toFixed(0)} ms` : time(value);
      showAtHand(event.clientX, event.clientY, [said, targets.includes(at) ? "at an edge" : EDGE_WORDS[name]]);
      redraw();
    },
    end: () => {
      hideAtHand();
      void keepEdges(mark);
      reset();
    },
    cancel: reset,
    click: reset,
  });
}

const EDGE_WORDS: Record<EdgeName, string> = {
  start: "start of the mark",
  end: "end of the mark",
  dip_start: "down from here",
  dip_end: "down to here",
  ramp_in: "way down",
  ramp_out: "way back",
};

function edgeValue(mark: Mark, name: EdgeName, at: number): number {
  const { shortest_mark: least, longest_ramp: longest } = useSession.getState().terms!;
  switch (name) {
    case "start":
      return Math.min(at, mark.end - least);
    case "end":
      return Math.max(at, mark.start + least);
    case "dip_start":
      return Math.min(at, mark.dip_end - least);
    case "dip_end":
      return Math.max(at, mark.dip_start + least);
    case "ramp_in":
      return Math.min(Math.max(mark.dip_start - at, least), longest);
    case "ramp_out":
      return Math.min(Math.max(at - mark.dip_end, least), longest);
  }
}

// --- dips in the gain strip

export interface DipHit {
  mark: Mark;
  part: EdgeName | "body";
}

/** The dip under the hand, or a handle of the one that is selected. */
export function hitDip(a: Axis, s: Scale, x: number, y: number): DipHit | null {
  const { marks: chosen, window, kinds, stage } = useView.getState();
  if (stage !== "details") return null;
  const shown = visibleMarks(focusedMarks(), { start: window.start - 1, end: window.end + 1 });
  for (const mark of shown) {
    if (!chosen.has(mark.id) || chosen.size !== 1 || mark.depth >= 0) continue;
    for (const handle of handles(a, s, mark)) {
      if (Math.abs(handle.x - x) <= REACH && Math.abs(handle.y - y) <= REACH) return { mark, part: handle.part };
    }
  }
  let best: Mark | null = null;
  for (const mark of shown) {
    if (mark.depth >= 0 || mark.keep === "out" || !kinds.has(mark.kind)) continue;
    const outline = dipOutline(mark);
    if (x < a.x(outline[0]![0]) - 2 || x > a.x(outline.at(-1)![0]) + 2) continue;
    if (y < s.y(0) - 3 || y > s.y(Math.max(heldDepth(mark), s.low)) + 5) continue;
    if (!best || mark.end - mark.start < best.end - best.start) best = mark;
  }
  return best && { mark: best, part: "body" };
}

export function dragDip(down: PointerEvent, a: Axis, s: Scale, { mark, part }: DipHit) {
  if (part !== "body") return dragEdge(down, a, mark, part);
  const { marks: selection } = useView.getState();
  const more = down.shiftKey || isFree(down);
  const ids = selection.has(mark.id) ? selection : new Set(more ? [...selection, mark.id] : [mark.id]);
  const selectedNow = () => focusedMarks().filter((m) => ids.has(m.id));
  const chosen = selectedNow();
  const lock = axisLock();
  const reset = () => {
    hand.dips = { ids: new Set(), delta: 0 };
    hideAtHand();
    redraw();
  };
  startDrag(down, {
    move: (dx, dy, event) => {
      if (lock(dx, dy) === "x") return;
      if (!selection.has(mark.id)) selectMarks(ids);
      const delta = Math.round(-dy * s.perPixel * (event.altKey ? 0.1 : 1) * 10) / 10;
      if (delta !== hand.dips.delta) hearDips(selectedNow(), delta);
      hand.dips = { ids: new Set(ids), delta };
      const many = chosen.length > 1;
      const first = many ? `${chosen.length} dips ${db(delta)}` : `${KIND_ROWS[mark.kind].one} ${db(heldDepth(mark))}`;
      const stands = mark.after === null ? "" : signed(mark.after + (heldDepth(mark) - (mark.on ? mark.depth : 0)));
      showAtHand(event.clientX, event.clientY, [first, `${stands} ${standsIn(mark.kind)}`]);
      redraw();
    },
    end: () => {
      const { delta } = hand.dips;
      hideAtHand();
      if (delta === 0) return reset();
      // as they are by now: something of them may have been answered meanwhile
      void changeDepth(selectedNow(), { by: delta });
      hearDips([], 0);
      reset();
    },
    cancel: () => {
      hearDips([], 0);
      reset();
    },
    click: () => {
      const next = new Set(more ? selection : []);
      if (more && next.has(mark.id)) next.delete(mark.id);
      else next.add(mark.id);
      selectMarks(next);
      if (!more) seek(mark.start);
    },
  });
}
