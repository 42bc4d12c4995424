/**
 * What the person looks at and holds: focus, selection, time window, stage, order of the worklist.
 *
 * ``useView`` is for what re-renders; ``hand`` and ``playhead`` change many times a second and are read by the drawing
 * loop, which is told through ``redraw``.
 */
import { create } from "zustand";
import type { Draft, LaneName } from "../../api/client";
import { ALL_KINDS } from "./kinds";

export type Stage = "survey" | "phrases" | "details" | "ride" | "balance" | "signoff";
export const STAGES: Stage[] = ["survey", "phrases", "details", "ride", "balance", "signoff"];
export const STAGE_NAMES: Record<Stage, string> = {
  survey: "Survey",
  phrases: "Phrases",
  details: "Details",
  ride: "Ride",
  balance: "Balance",
  signoff: "Sign off",
};
export type Order = "worst" | "time";
/** Layers of pre-fader gain in the order of the signal path. */
export type Layer = "clip" | "curve" | "dips" | "ride" | "trim";
export const ALL_LAYERS: Record<Layer, boolean> = { clip: true, curve: true, dips: true, ride: true, trim: true };
/** Lanes that are drawn on, by the names that the person reads. */
export const LANE_NAMES: Record<LaneName, string> = { curve: "clip curve", ride: "ride", trim: "trim" };
export const LAYER_NAMES: Record<Layer, string> = { clip: "clip gain", dips: "dips", ...LANE_NAMES };
/** What stands for silence, dB, and whether a gain is as good as it. */
export const SILENCE = -144;
export const isSilent = (db: number) => db <= -120;
export const LANES = Object.keys(LANE_NAMES) as LaneName[];
export interface Span {
  start: number;
  end: number;
}

interface ViewState {
  stage: Stage;
  focus: string;
  selection: Set<string>;
  /** Marks that are selected; worked on in the stage Details. */
  marks: Set<string>;
  /** Kinds of marks that the worklist shows. */
  kinds: Set<string>;
  /** The drawn lane that the hand works on, and its points that are selected, by place. */
  lane: LaneName;
  points: Set<string>;
  /** Whether a mark is played twice, before and after. */
  twice: boolean;
  span: Span | null;
  window: Span;
  order: Order;
  draft: Draft | null;
  draftOf: string[] | undefined;
  /** Whether a draft turns down short peaks that hold phrases back. */
  peaks: boolean;
  before: boolean;
  /** Whether before is heard of all tracks, not only of the one in focus. */
  beforeAll: boolean;
  /** Whether only the track in focus is heard. */
  alone: boolean;
  /** Whether voices are heard through the compressor, and whether their gain comes behind it. */
  load: boolean;
  behind: boolean;
  /** Whether before and after are heard equally loud. */
  equal: boolean;
  layers: Record<Layer, boolean>;
  loop: boolean;
  playing: boolean;
  heights: { wave: number; gain: number; ride: number; balance: number };
  folded: { wave: boolean; gain: boolean };
  exact: string | null;
  help: boolean;
}

export const useView = create<ViewState>(() => ({
  stage: "survey",
  focus: "",
  selection: new Set(),
  marks: new Set(),
  kinds: new Set<string>(ALL_KINDS),
  lane: "ride",
  points: new Set(),
  twice: false,
  span: null,
  window: { start: 0, end: 30 },
  order: "worst",
  draft: null,
  draftOf: undefined,
  peaks: false,
  before: false,
  beforeAll: false,
  alone: false,
  load: false,
  behind: false,
  equal: false,
  layers: ALL_LAYERS,
  loop: false,
  playing: false,
  /** The gain strip is the working surface of the stage Ride, so there it has a height of its own. */
  heights: { wave: 150, gain: 112, ride: 200, balance: 170 },
  folded: { wave: false, gain: false },
  exact: null,
  help: false,
}));

export const SHORTEST_WINDOW = 0.05;

/** Edges of a mark and of its dip, in seconds. */
export type EdgeName = "start" | "end" | "dip_start" | "dip_end" | "ramp_in" | "ramp_out";

/** Values that change while the hand moves, outside of React. */
export const hand = {
  drag: { ids: new Set<string>(), delta: 0 },
  /** Dips that are held: how much deeper they are, or where an edge is. */
  dips: { ids: new Set<string>(), delta: 0 },
  edge: null as null | { mark: string; values: Partial<Record<EdgeName, number>> },
  /** Depths that a rule which is being moved would give. */
  trial: null as null | Map<string, number>,
  /** Points that are being moved. */
  points: { ids: new Set<string>(), seconds: 0, db: 0 },
  /** A line that is being drawn: seconds and dB. */
  line: [] as [number, number][],
  border: null as null | { clip: string; at: number },
  /** Clips that are being moved along their lane: by how many seconds; and into which lane, if another. */
  move: null as null | { ids: Set<string>; seconds: number; lane: string | null },
  /** The end of a clip that is being trimmed. */
  end: null as null | { clip: string; edge: "start" | "end"; at: number },
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

/** A window of the same length or another, kept within the axis. */
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

/** What a person has turned to. Who takes points has a new, empty selection. */
const HELD = ["stage", "focus", "lane", "selection", "marks", "span"] as const;

/**
 * Tells, later, whether the person still has in hand what is in hand now. What an edit makes is handed over when it has
 * been answered, but only then: it takes nothing out of the hand that has meanwhile taken something else.
 */
export function inHand(): () => boolean {
  const then = useView.getState();
  return () => {
    const now = useView.getState();
    return HELD.every((name) => now[name] === then[name]);
  };
}

export const select = (ids: Iterable<string>) =>
  useView.setState({ selection: new Set(ids), marks: new Set(), points: new Set(), span: null });

/** What is heard: every layer that is on, or none of them before. */
export const heardLayers = ({ before, layers }: Pick<ViewState, "before" | "layers">): Layer[] =>
  before ? [] : (Object.keys(layers) as Layer[]).filter((layer) => layers[layer]);
