/** Hands in the level chart: a phrase is dragged up and down, empty ground is a lasso, a click places the play line. */
import type { PointerEvent as ReactPointer } from "react";
import type { Clip } from "../api/client";
import { changeGain, hearGain } from "../model/hand/gain";
import { seek } from "../model/heard/listening";
import { focused, focusedClips, phraseSpan } from "../model/server/focus";
import { deviation, isJudged, standing, useSession } from "../model/server/session";
import { hand, redraw, useView } from "../model/view/view";
import { db, distanceUnit, signed } from "../parts/format";
import { axis, GUTTER, visible } from "./axis";
import { hideAtHand, showAtHand } from "./HandLabel";
import { axisLock, isFree, startDrag } from "./hands";
import { CAPSULE, capsuleBox, chartScale, levelRange } from "./scene";

export function setHover(id: string | null) {
  if (hand.hover === id) return;
  hand.hover = id;
  redraw();
}

export function place(element: Element, clientX: number, clientY: number) {
  const box = element.getBoundingClientRect();
  return { x: clientX - box.left, y: clientY - box.top, width: box.width, height: box.height };
}

export function hitCapsule(element: Element, clientX: number, clientY: number): Clip | null {
  const track = focused();
  if (!track) return null;
  const { x, y, width, height } = place(element, clientX, clientY);
  const clips = focusedClips();
  const { window } = useView.getState();
  const a = axis(window, width);
  const range = levelRange(clips, track.target);
  const s = chartScale(range.low, range.high, height);
  for (const clip of visible(clips, window)) {
    const off = standing(clip, track.target);
    if (off === null) continue;
    const box = capsuleBox(a, clip);
    if (x >= box.x - 3 && x <= box.x + box.w + 3 && Math.abs(y - s.y(off)) <= CAPSULE / 2 + 4) return clip;
  }
  return null;
}

/** Where in a strip the hand goes down; null if that is no place to work in. What had the focus lets it go. */
export function takeHold(event: ReactPointer<HTMLElement>) {
  const at = place(event.currentTarget, event.clientX, event.clientY);
  if (event.button !== 0 || at.x < GUTTER) return null;
  event.preventDefault();
  (document.activeElement as HTMLElement | null)?.blur();
  return at;
}

export function chartDown(event: ReactPointer<HTMLElement>) {
  const at = takeHold(event);
  if (!at) return;
  const element = event.currentTarget;
  const { x, y, width, height } = at;
  const clips = focusedClips();
  const track = focused()!;
  const range = levelRange(clips, track.target);
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
        const off = standing(clip, track.target);
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
export function dragGain(down: PointerEvent, clip: Clip, dbPerPixel: number) {
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
      if (delta !== hand.drag.delta) hearGain(chosen, delta);
      hand.drag = { ids: new Set(chosen), delta };
      const off = deviation(clip, track.target);
      const lines = [`gain ${db(clip.gain + delta)}`];
      const asked = Math.abs(clip.wish) < 0.05 ? "" : `, ${db(clip.wish)} asked for`;
      if (off !== null) lines.push(`${signed(off)} ${unit} from target${asked}`);
      if (chosen.size > 1) lines[0] = `${chosen.size} phrases ${db(delta)}`;
      showAtHand(event.clientX, event.clientY, lines);
      redraw();
    },
    end: () => {
      const { delta } = hand.drag;
      hideAtHand();
      if (delta === 0) return reset();
      void changeGain([...chosen], { by: delta });
      hearGain(chosen, 0);
      reset();
    },
    cancel: () => {
      hearGain(chosen, 0);
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
