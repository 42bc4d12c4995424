/** Hands in the gain strip: what lies under them - a point or span of the ride, a dip, a clip's gain - takes the drag. */
import type { MouseEvent as ReactMouse, PointerEvent as ReactPointer } from "react";
import { selectMarks } from "../model/hand/details";
import { focusedClips } from "../model/server/focus";
import { useView } from "../model/view/view";
import { axis, clipIndexAt } from "./axis";
import { dragGain, place, takeHold } from "./chartHands";
import { dipScale, dragSpan } from "./groundHands";
import { dragDip, hitDip } from "./markHands";
import { rideDouble, rideDown, rideHover } from "./rideHands";

export function gainHover(event: ReactPointer<HTMLElement>) {
  if (useView.getState().stage === "ride") return rideHover(event);
  const { x, y, width, height } = place(event.currentTarget, event.clientX, event.clientY);
  const hit = hitDip(axis(useView.getState().window, width), dipScale(height), x, y);
  event.currentTarget.style.cursor = !hit ? "" : hit.part === "body" ? "ns-resize" : "ew-resize";
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
  if (selectDip(event)) return;
  const { x, width } = place(event.currentTarget, event.clientX, event.clientY);
  const clips = focusedClips();
  const clip = clips[clipIndexAt(clips, axis(useView.getState().window, width).seconds(x))];
  if (clip) useView.setState({ exact: clip.id, selection: new Set([clip.id]) });
}

/** Select the dip under the hand; whether there is one. */
function selectDip(event: ReactMouse<HTMLElement>): boolean {
  const { x, y, width, height } = place(event.currentTarget, event.clientX, event.clientY);
  const hit = hitDip(axis(useView.getState().window, width), dipScale(height), x, y);
  if (hit) selectMarks([hit.mark.id]);
  return hit !== null;
}
