/**
 * What the person looks at and holds: focus, selection, time window, stage, order of the worklist.
 *
 * ``useView`` is for what re-renders; ``hand`` and ``playhead`` change many times a second and are read by the drawing
 * loop, which is told through ``redraw``.
 */
import { create } from "zustand";
import type { Draft } from "../api/client";

export type Stage = "survey" | "phrases" | "deliver";
export const STAGES: Stage[] = ["survey", "phrases", "deliver"];
export type Order = "worst" | "time";
export interface Span {
  start: number;
  end: number;
}

interface ViewState {
  focus: string;
  selection: Set<string>;
  span: Span | null;
  window: Span;
  order: Order;
  draft: Draft | null;
  draftOf: string[] | undefined;
  before: boolean;
  clipLayer: boolean;
  loop: boolean;
  playing: boolean;
  heights: { wave: number; gain: number };
  folded: { wave: boolean; gain: boolean };
  exact: string | null;
  help: boolean;
}

export const useView = create<ViewState>(() => ({
  focus: "",
  selection: new Set(),
  span: null,
  window: { start: 0, end: 30 },
  order: "worst",
  draft: null,
  draftOf: undefined,
  before: false,
  clipLayer: true,
  loop: false,
  playing: false,
  heights: { wave: 150, gain: 112 },
  folded: { wave: false, gain: false },
  exact: null,
  help: false,
}));

export const SHORTEST_WINDOW = 0.05;

/** Values that change while the hand moves, outside of React. */
export const hand = {
  drag: { ids: new Set<string>(), delta: 0 },
  border: null as null | { clip: string; at: number },
  lasso: null as null | { x0: number; y0: number; x1: number; y1: number },
  hover: null as string | null,
};

const listeners = new Set<() => void>();
let scheduled = false;

/** Ask every picture to draw itself in the next frame. */
export function redraw() {
  if (scheduled) return;
  scheduled = true;
  requestAnimationFrame(() => {
    scheduled = false;
    for (const listener of listeners) listener();
  });
}

export function onRedraw(listener: () => void): () => void {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

/** A window of the same length or another, kept within the recording. */
export function fitWindow(start: number, end: number, duration: number): Span {
  const most = Math.max(duration, SHORTEST_WINDOW);
  const length = Math.min(Math.max(end - start, SHORTEST_WINDOW), most);
  const first = Math.min(Math.max(start, 0), most - length);
  return { start: first, end: first + length };
}

/** Zoom by a factor around a moment that stays where it is on the screen. */
export function zoomWindow(window: Span, factor: number, around: number, duration: number): Span {
  const length = Math.min(Math.max((window.end - window.start) * factor, SHORTEST_WINDOW), Math.max(duration, 0.1));
  const share = (around - window.start) / (window.end - window.start);
  return fitWindow(around - share * length, around + (1 - share) * length, duration);
}

export const select = (ids: Iterable<string>) => useView.setState({ selection: new Set(ids), span: null });
