/** Dragging: one way for everything that is moved in the picture. */

import { hand } from "../model/view/view";

export interface Drag {
  /** Called for every movement with the distance from where the hand went down, in pixels. */
  move: (dx: number, dy: number, event: PointerEvent) => void;
  /** Called once at the end; not if the drag was taken back. */
  end: (event: PointerEvent) => void;
  /** Called when Escape takes the drag back, or the pointer is lost. */
  cancel: () => void;
  /** Called instead of ``end`` when the hand never moved. */
  click?: (event: PointerEvent) => void;
}

const STILL = 3;

/** Follow the pointer from a pointerdown on, until it is let go or Escape takes it back. */
export function startDrag(down: PointerEvent, drag: Drag): void {
  let moved = false;
  const move = (event: PointerEvent) => {
    const dx = event.clientX - down.clientX;
    const dy = event.clientY - down.clientY;
    if (!moved && Math.max(Math.abs(dx), Math.abs(dy)) < STILL) return;
    moved = true;
    drag.move(dx, dy, event);
  };
  const up = (event: PointerEvent) => {
    done();
    if (moved) drag.end(event);
    else drag.click?.(event);
  };
  const lost = () => {
    done();
    drag.cancel();
  };
  const key = (event: KeyboardEvent) => {
    if (event.key !== "Escape") return;
    event.preventDefault();
    event.stopPropagation();
    lost();
  };
  const done = () => {
    window.removeEventListener("pointermove", move);
    window.removeEventListener("pointerup", up);
    window.removeEventListener("pointercancel", lost);
    window.removeEventListener("keydown", key, true);
  };
  window.addEventListener("pointermove", move);
  window.addEventListener("pointerup", up);
  window.addEventListener("pointercancel", lost);
  window.addEventListener("keydown", key, true);
}

/** What the hand held stays in the picture until its edit is answered, then it is let go: unless it holds something else. */
export function letGoAfter<Name extends keyof typeof hand>(
  edit: Promise<unknown>,
  name: Name,
  letGo: () => void,
): void {
  const mine = hand[name];
  void edit.finally(() => {
    if (hand[name] === mine) letGo();
  });
}

/** Locks a drag to the axis of its first movement. */
export function axisLock() {
  let locked: "x" | "y" | null = null;
  return (dx: number, dy: number): "x" | "y" => {
    locked ??= Math.abs(dy) >= Math.abs(dx) ? "y" : "x";
    return locked;
  };
}

/** The nearest of some places within reach, or the place itself. */
export function snap(at: number, places: number[], reach: number): number {
  let best = at;
  let distance = reach;
  for (const place of places) {
    if (Math.abs(place - at) < distance) {
      distance = Math.abs(place - at);
      best = place;
    }
  }
  return best;
}

/** Whether snapping is let go of: Ctrl or Cmd is held. */
export const isFree = (event: { ctrlKey: boolean; metaKey: boolean }) => event.ctrlKey || event.metaKey;
