/** What the hands on the strips share: the scale of the gain strip as it is drawn, and drawing a span across empty ground. */
import type { PointerEvent as ReactPointer } from "react";
import { lanePoints } from "../model/hand/rideState";
import { heard } from "../model/heard/heard";
import { seek } from "../model/heard/listening";
import { selectSpan } from "../model/heard/place";
import { focused, focusedClips, focusedMarks } from "../model/server/focus";
import { useView } from "../model/view/view";
import { time } from "../parts/format";
import { type Axis, axis, type Scale } from "./axis";
import { hideAtHand, showAtHand } from "./HandLabel";
import { isFree, startDrag } from "./hands";
import { gainScale } from "./scene";
import { hidePull, snapper } from "./snapping";

export function dipScale(height: number): Scale {
  return gainScale(focusedClips(), focusedMarks(), heard().points, focused(), useView.getState().stage, height);
}

/** Drag across: a span, with the phrases that lie in it. A click places the play line, or does what it is told to. */
export function dragSpan(down: PointerEvent, a: Axis, x: number, click?: () => void) {
  const { span: oldSpan, selection: oldSelection, marks: oldMarks, points: oldPoints } = useView.getState();
  const before = { span: oldSpan, selection: oldSelection, marks: oldMarks, points: oldPoints };
  const isRide = useView.getState().stage === "ride";
  const pulled = snapper(a, isRide ? lanePoints().map((point) => point.at) : []);
  const first = pulled(a.seconds(x), down).at;
  startDrag(down, {
    move: (dx, _, event) => {
      const t0 = isFree(event) ? a.seconds(x) : first;
      const t1 = pulled(a.seconds(x + dx), event).at;
      const span = selectSpan(t0, t1);
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
      seek(isFree(down) ? a.seconds(x) : first);
      useView.setState({ span: null, selection: new Set(), marks: new Set(), points: new Set() });
    },
  });
}

/** A strip with nothing on it to take hold of: spans are drawn across it. */
export function groundDown(event: ReactPointer) {
  if (event.button !== 0) return;
  const box = event.currentTarget.getBoundingClientRect();
  dragSpan(event.nativeEvent, axis(useView.getState().window, box.width), event.clientX - box.left);
}
