/** What is drawn on the track in focus, by what it is of, and the draft that is shown over it. */
import { create } from "zustand";
import {
  api,
  type Inside,
  type LanePoint,
  type Ride,
  type RideDraft,
  type RideRule,
  type Track,
} from "../../api/client";
import { drawn, gainSettled, onHeard, useHeard } from "../heard/heard";
import { Asked } from "../server/asked";
import { focused } from "../server/focus";
import { figuresSettled } from "../server/queries";
import { useSession } from "../server/session";
import { redraw, useView } from "../view/view";

/** What a draft is limited to: nothing, some phrases, or a span. */
export interface DraftOf {
  clips?: string[];
  span?: [number, number];
}

/** All values of the rule of a draft: those that the hand has set, else as they come; the dead band is the tolerance then. */
export type RideValues = { [name in keyof RideRule]-?: NonNullable<RideRule[name]> };

export interface RideState {
  draft: RideDraft | null;
  draftOf: DraftOf;
  /** What the hand has set of the rule. */
  rule: Partial<RideValues>;
  /** Over how many seconds smoothing takes the mean. */
  smoothing: number;
}

/** A little, as usual, a lot. */
export const SMOOTHING = [0.15, 0.4, 1] as const;

export const useRide = create<RideState>(() => ({
  draft: null,
  draftOf: {},
  rule: {},
  smoothing: SMOOTHING[1],
}));

/** The rule of a draft as it stands. */
export function useRideRule(): RideValues | null {
  const set = useRide((s) => s.rule);
  const asItComes = useSession((s) => s.header?.ride);
  const tolerance = useSession((s) => s.header?.rule.tolerance);
  return asItComes && tolerance !== undefined ? { ...asItComes, dead_band: tolerance, ...set } : null;
}

/** The track that is ridden, if its sound is there and the stage is open. */
function ridden(): Track | null {
  const track = focused();
  return track && !track.timeline.missing && useView.getState().stage === "ride" ? track : null;
}

const insideAsked = new Asked<Inside>("inside", () => {
  const track = ridden();
  const { header } = useSession.getState();
  if (!track || !header) return null;
  const key = track.gain_key;
  return {
    of: track.id,
    key: `${key}:${JSON.stringify(header.rule)}`,
    ask: async (signal) => {
      // what is heard and the figures come first: asked for beside them, it would hold both up
      await gainSettled();
      await figuresSettled(track.id);
      return api.inside(track.id, key, signal);
    },
  };
});

/** What is drawn on the track in focus, while the stage Ride is open. */
export const lanes = (): Ride | null => drawn()?.lanes ?? null;
export function useLanes(): Ride | null {
  useHeard();
  return lanes();
}
/** What goes on inside the phrases; it takes longer to work out than what is drawn. */
export const inside = (): Inside | null => insideAsked.answer;
export const useInside = () => insideAsked.useAnswer();

useRide.subscribe(redraw);

export const lanePoints = (): LanePoint[] => lanes()?.[useView.getState().lane] ?? [];

// points that are gone are not selected any more
onHeard(() => {
  const { points, stage } = useView.getState();
  if (stage !== "ride" || !points.size || !lanes()) return;
  const there = new Set(lanePoints().map((point) => point.id));
  const left = [...points].filter((id) => there.has(id));
  if (left.length < points.size) useView.setState({ points: new Set(left) });
});

// what was set of a rule goes with the track that it was set for
useView.subscribe((now, old) => {
  if (now.focus !== old.focus) useRide.setState({ rule: {}, draftOf: {} });
});

/** A trim is moved as a whole by its offset, which its points do not hold. */
export const laneOffset = (): number => (useView.getState().lane === "trim" ? (lanes()?.offset ?? 0) : 0);
