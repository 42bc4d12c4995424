/** What is drawn on the track in focus, as the server has it, and the draft that is shown over it. */
import { create } from "zustand";
import { api, type Inside, type Ride, type RideDraft, type RidePoint, type RideRule } from "../api/client";
import { complain } from "../parts/messages";
import { focused } from "./focus";
import { ask, newest } from "./newest";
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
  track: string;
  ride: Ride | null;
  /** What goes on inside the phrases; it takes longer to work out than what is drawn. */
  inside: Inside | null;
  draft: RideDraft | null;
  draftOf: DraftOf;
  /** What the hand has set of the rule. */
  rule: Partial<RideValues>;
}

export const useRide = create<RideState>(() => ({
  track: "",
  ride: null,
  inside: null,
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

const LANES_OF = "lanes of the ride";
let loaded = "";
let loading: Promise<void> = Promise.resolve();

/** Have the lanes of the track in focus while the stage Ride is open. */
export function refreshRide(): Promise<void> {
  const track = focused();
  const { header } = useSession.getState();
  if (!track || !header || track.timeline.missing || useView.getState().stage !== "ride") return loading;
  const key = `${track.id}@${header.revision}`;
  if (key === loaded) return loading;
  loaded = key;
  loading = load(track.id);
  return loading;
}

async function load(track: string) {
  if (useRide.getState().track !== track) useRide.setState({ track, ride: null, inside: null, rule: {}, draftOf: {} });
  try {
    const ride = await newest(LANES_OF, () => api.ride(track));
    if (!ride) return;
    const kept = samePoints(useView.getState().points);
    useRide.setState({ ride });
    useView.setState({ points: new Set(kept()) });
    void loadInside(track);
  } catch (error) {
    loaded = "";
    complain(error);
  }
}

const loadInside = (track: string) =>
  ask(
    LANES_OF,
    (signal) => api.inside(track, signal),
    (inside) => useRide.setState({ inside }),
  );

useSession.subscribe(() => void refreshRide());
useView.subscribe((now, old) => {
  if (now.focus !== old.focus || now.stage !== old.stage) void refreshRide();
});
useRide.subscribe(redraw);

export const lanePoints = (): RidePoint[] => useRide.getState().ride?.[useView.getState().lane] ?? [];

const known = ({ clip, at }: RidePoint) => `${clip}@${at}`;

/**
 * The places that some points of the lane in hand have later, when others have been made or deleted. Points that an edit
 * has moved keep their order, so they are known by their places as long as there are as many as there were.
 */
export function samePoints(places: Iterable<number>): () => number[] {
  const { lane } = useView.getState();
  const { track } = useRide.getState();
  const ofLane = () => {
    const now = useRide.getState();
    return (now.track === track && now.ride?.[lane]) || [];
  };
  let then = ofLane();
  let chosen = [...places].filter((place) => place < then.length);
  return () => {
    const now = ofLane();
    if (now.length !== then.length) {
      const is = new Map(now.map((point, place) => [known(point), place]));
      chosen = chosen.flatMap((place) => is.get(known(then[place]!)) ?? []);
    }
    then = now;
    return chosen;
  };
}

/** A trim is moved as a whole by its offset, which its points do not hold. */
export const laneOffset = (): number =>
  useView.getState().lane === "trim" ? (useRide.getState().ride?.offset ?? 0) : 0;
