/** Hands on the wave, where borders and spans are drawn, and on the window in the overview. */
import type { PointerEvent as ReactPointer } from "react";
import type { Clip } from "../api/client";
import { moveBorder } from "../model/hand/gain";
import { seek } from "../model/heard/listening";
import { show } from "../model/heard/looking";
import { duration, focusedClips } from "../model/server/focus";
import { useSession } from "../model/server/session";
import { fitWindow, hand, redraw, useView } from "../model/view/view";
import { time } from "../parts/format";
import { engine } from "../sound/engine";
import { type Axis, axis, clipIndexAt, meets } from "./axis";
import { place, takeHold } from "./chartHands";
import { dragSpan } from "./groundHands";
import { hideAtHand, showAtHand } from "./HandLabel";
import { startDrag } from "./hands";
import { BORDER_GRIP } from "./scene";
import { AT_PLACE, hidePull, snapper } from "./snapping";

function borderNear(a: Axis, x: number): Clip | null {
  const clips = focusedClips();
  const i = clipIndexAt(clips, a.seconds(x));
  for (const place of [i - 1, i]) {
    const [clip, next] = [clips[place], clips[place + 1]];
    if (clip && next && meets(clip, next) && Math.abs(a.x(clip.end) - x) <= 6) return clip;
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
  const least = useSession.getState().terms!.shortest_clip;
  const reset = () => {
    hand.border = null;
    hideAtHand();
    hidePull();
    redraw();
  };
  startDrag(down, {
    move: (dx, _, event) => {
      const { at, kind, holds } = pulled(clip.end + dx * a.perPixel * (event.altKey ? 0.1 : 1), event);
      hand.border = { clip: clip.id, at: Math.min(Math.max(at, clip.start + least), next.end - least) };
      showAtHand(event.clientX, event.clientY, [time(hand.border.at), holds ? AT_PLACE[kind!] : "border"]);
      redraw();
    },
    end: () => {
      const at = hand.border?.at;
      hideAtHand();
      hidePull();
      if (at === undefined) return reset();
      void moveBorder(clip.id, at);
      reset();
    },
    cancel: reset,
    click: reset,
  });
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
