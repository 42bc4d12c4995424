/** What is drawn on the track in focus, by what it is of, and the draft that is shown over it. */
import { create } from "zustand";
import { api, type Inside, type Ride, type RideDraft, type RidePoint, type RideRule, type Track } from "../api/client";
import { Asked } from "./asked";
import { focused } from "./focus";
import { drawn, isHeardSettled, onHeard, useHeard } from "./heard";
import { useSession } from "./session";
import { redraw, useView } from "./view";

/** What a draft is limited to: nothing, some phrases, or a span. */
export interface DraftOf {
  clips?: string[];
  span?: [number, number];
}

/** All values of the rule of a draft: those that the hand has set, else as they come; the dead band is the tolerance then. */
export type RideValues = { [name in keyof Required<RideRule>]: number };

export interface RideState {
  draft: RideDraft | null;
  draftOf: DraftOf;
  /** What the hand has set of the rule. */
  rule: Partial<RideValues>;
}

export const useRide = create<RideState>(() => ({
  draft: null,
  draftOf: {},
  rule: {},
}));

/** The rule of a draft as it stands. */
export function useRideRule(): RideValues | null {
  const set = useRide((s) => s.rule);
  const asItComes = useSession((s) => s.terms?.ride);
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
    ask: (signal) => api.inside(track.id, key, signal),
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

/** The lanes of a track as they are when the turn of an edit has come, wherever the person has gone meanwhile. */
export async function lanesOf(track: string): Promise<Ride> {
  return (ridden()?.id === track && isHeardSettled() && lanes()) || api.ride(track);
}

useRide.subscribe(redraw);

export const lanePoints = (): RidePoint[] => lanes()?.[useView.getState().lane] ?? [];

const known = ({ clip, at }: RidePoint) => `${clip}@${at}`;

/**
 * The places that some points have later, when others have been made or deleted. Points that an edit has moved keep their order,
 * so they are known by their places as long as there are as many as there were.
 */
function following(then: RidePoint[], places: Iterable<number>): (now: RidePoint[]) => number[] {
  let chosen = [...places].filter((place) => place < then.length);
  return (now) => {
    if (now.length !== then.length) {
      const is = new Map(now.map((point, place) => [known(point), place]));
      chosen = chosen.flatMap((place) => is.get(known(then[place]!)) ?? []);
    }
    then = now;
    return chosen;
  };
}

/** Where some points of the lane in hand are, now and later: as long as that lane of that track is in hand, or in what is told. */
export function samePoints(places: Iterable<number>): (now?: RidePoint[]) => number[] {
  const follow = following(lanePoints(), places);
  const [track, { lane }] = [focused()?.id, useView.getState()];
  return (now) => follow(now ?? (focused()?.id === track ? (lanes()?.[lane] ?? []) : []));
}

let last: { track: string; lanes: Ride } | null = null;

// what is in hand stays in hand when its places have become others
onHeard(() => {
  const { points, lane } = useView.getState();
  const track = ridden()?.id ?? "";
  const now = lanes();
  if (now && last?.track === track && points.size)
    useView.setState({ points: new Set(following(last.lanes[lane], points)(now[lane])) });
  if (now) last = { track, lanes: now };
});

// what was set of a rule goes with the track that it was set for
useView.subscribe((now, old) => {
  if (now.focus !== old.focus) useRide.setState({ rule: {}, draftOf: {} });
});

/** A trim is moved as a whole by its offset, which its points do not hold. */
export const laneOffset = (): number => (useView.getState().lane === "trim" ? (lanes()?.offset ?? 0) : 0);
