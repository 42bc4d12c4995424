/** Balance: how far the voice lies above the bed, how the bed makes room, and what a compressor would have to do. */
import { create } from "zustand";
import {
  api,
  type Distance,
  type DistancePhrase,
  type DuckDraft,
  type DuckRule,
  type Load,
  type LoadChange,
  type SlowDraft,
  type SlowRule,
  type Track,
} from "../../api/client";
import { tell } from "../../parts/messages";
import { faderOf } from "../heard/mix";
import { Asked } from "../server/asked";
import { edit } from "../server/edits";
import { focused, selectedSpan } from "../server/focus";
import { trackOf, useSession } from "../server/session";
import { redraw, useView } from "../view/view";
import { Drafts } from "./drafts";

export type Leaf = "bed" | "load";

export interface BalanceState {
  leaf: Leaf;
  /** What the hand has set of how the bed is to make room, and the draft of it. */
  duck: Partial<DuckRule>;
  duckDraft: DuckDraft | null;
  slow: Partial<SlowRule>;
  /** The bed that both are for: those of another are as they come. */
  rulesOf: string;
  slowDraft: SlowDraft | null;
}

export const useBalance = create<BalanceState>(() => ({
  leaf: "bed",
  duck: {},
  duckDraft: null,
  slow: {},
  rulesOf: "",
  slowDraft: null,
}));

export const COURSE_RATE = 10;
export const LOAD_RATE = 20;

/** The bed that is worked on: the one in focus, else the first. */
export function bedInHand(): Track | undefined {
  const track = focused();
  if (track?.kind === "bed") return track;
  return useSession.getState().header?.tracks.find((one) => one.kind === "bed");
}

interface BedFigures {
  distance: Distance;
  /** Short-term loudness of voice and bed, pairs, 10 a second. */
  course: Float32Array;
}
interface LoadFigures {
  load: Load;
  /** Highest reduction before and after, pairs, 20 a second, and the highest of them. */
  course: Float32Array;
  most: number;
}

/** What is looked at in the stage Balance, and in which state. */
function looked(leaf: Leaf): { session: string; track: Track; revision: number } | null {
  const { header, id } = useSession.getState();
  const { stage, focus } = useView.getState();
  const track = trackOf(useSession.getState(), focus);
  if (!header || !track || stage !== "balance" || useBalance.getState().leaf !== leaf) return null;
  return { session: id, track, revision: header.revision };
}

const bedAsked = new Asked<BedFigures>("distance", () => {
  const now = looked("bed");
  if (!now) return null;
  const { session, track, revision } = now;
  const of = { track: track.kind === "voice" ? track.id : undefined, revision };
  const ask = async (signal: AbortSignal) => ({
    distance: await api.distance(session, of, signal),
    course: await api.distanceCourse(session, of, signal),
  });
  return { of: `${session} ${of.track}`, key: `${revision}`, ask };
});
const loadAsked = new Asked<LoadFigures>("load", () => {
  const now = looked("load");
  if (now?.track.kind !== "voice" || now.track.timeline.missing) return null;
  const { track, revision } = now;
  const ask = async (signal: AbortSignal) => {
    const course = await api.loadCourse(track.id, revision, signal);
    const most = course.reduce((a, b) => Math.max(a, b), 0);
    return { course, most, load: await api.load(track.id, revision, signal) };
  };
  return { of: track.id, key: `${revision}`, ask };
});

const askedOf = (leaf: Leaf) => (leaf === "bed" ? bedAsked : loadAsked);

/** The figures of the stage; those that could not be had are not those of before. */
export const bedFigures = () => (bedAsked.hasFailed ? null : bedAsked.answer);
export const loadFigures = () => (loadAsked.hasFailed ? null : loadAsked.answer);

/** The same for what is shown by them, with whether they are being worked out, or could not be. */
export function useBalanceFigures() {
  const leaf = useBalance((s) => s.leaf);
  bedAsked.useAnswer();
  loadAsked.useAnswer();
  const [bed, load] = [bedAsked.useState(), loadAsked.useState()];
  return { bed: bedFigures(), load: loadFigures(), ...(leaf === "bed" ? bed : load) };
}

/** Whether the figures of the leaf that is open are being worked out, or could not be. */
export function balanceState() {
  const asked = askedOf(useBalance.getState().leaf);
  return { working: !asked.isSettled, missing: asked.hasFailed };
}

/** Work out what was called off. */
export const refreshBalance = () => askedOf(useBalance.getState().leaf).again();

useSession.subscribe((now, old) => {
  if (now.id !== old.id) useBalance.setState({ duck: {}, slow: {}, rulesOf: "" });
});
useBalance.subscribe((now, old) => {
  if (now.leaf !== old.leaf) for (const asked of [bedAsked, loadAsked]) asked.follow();
  redraw();
});

// --- the distance, with the hand on a fader

/** By how much (LU) a fader that is held moves voice and bed of a phrase apart. */
export function heldApart(voice: string): number {
  const tracks = useSession.getState().header?.tracks ?? [];
  let apart = 0;
  for (const track of tracks) {
    const by = faderOf(track) - track.fader;
    if (by === 0) continue;
    if (track.id === voice) apart += by;
    else if (track.kind === "bed") apart -= by;
  }
  return apart;
}

export const apart = (phrase: DistancePhrase): number | null =>
  phrase.distance === null ? null : phrase.distance + heldApart(phrase.track);

/** What the bed in hand is to keep, LU. */
export const wantedDistance = (): number | null => duckRule()?.distance ?? null;

/** Whether a phrase keeps a distance. */
export const keeps = (value: number, wanted: number) =>
  value >= wanted - (useSession.getState().terms?.distance_slack ?? 0);

// --- making room

const AS_IT_COMES: { duck: Partial<DuckRule>; slow: Partial<SlowRule> } = { duck: {}, slow: {} };

/** What the hand has set of the rules of a bed and not kept. */
function setOf(bed: Track | undefined) {
  const { duck, slow, rulesOf } = useBalance.getState();
  return bed?.id === rulesOf ? { duck, slow } : AS_IT_COMES;
}

function setRules(which: "duck" | "slow", values: Partial<DuckRule & SlowRule>) {
  const bed = bedInHand();
  const set = setOf(bed);
  useBalance.setState({ ...set, [which]: { ...set[which], ...values }, rulesOf: bed?.id });
}

/** The rule of the bed in hand, with what the hand has set of it. */
export function duckRule(): DuckRule | null {
  const bed = bedInHand();
  return bed ? { ...(bed.duck as DuckRule), ...setOf(bed).duck } : null;
}

/** What the hand has set of the slow ride of the track in hand. */
export const slowRule = (): Partial<SlowRule> => setOf(bedInHand()).slow;

const ducks = new Drafts(
  () => {
    const bed = bedInHand();
    return bed && { bed: bed.id, rule: setOf(bed).duck };
  },
  ({ bed, rule }) => api.duckDraft(bed, rule),
  (duckDraft) => useBalance.setState({ duckDraft }),
  { name: "duck", read: () => setOf(bedInHand()).duck, put: (rule) => setRules("duck", rule) },
);

export function setDuck(values: Partial<DuckRule>) {
  setRules("duck", values);
  ducks.follow();
}

export function draftDuck() {
  if (!bedInHand()) return tell("No track is a bed yet. Mark a track as one.");
  slows.drop();
  void ducks.make();
}

export async function acceptDuck() {
  const done = await ducks.accept("let the bed make room", (revision, { bed, rule }, { stamp }) => {
    return api.acceptDuck(bed, { revision, rule, stamp });
  });
  // it is the rule of the bed now
  if (done) useBalance.setState({ duck: {} });
}

/** Drop the draft of the bed, whichever is on view. */
export function dropDuck() {
  ducks.drop();
  slows.drop();
}

export function draftOrAcceptDuck() {
  const { leaf, duckDraft, slowDraft } = useBalance.getState();
  if (leaf === "load") return takeThreshold();
  if (slowDraft) void acceptSlow();
  else if (duckDraft) void acceptDuck();
  else draftDuck();
}

/** Let drafts leave the selected span of the bed alone, or free what is locked in it. */
export function lockSpan(on: boolean) {
  const bed = bedInHand();
  const span = selectedSpan();
  if (!bed || !span) return tell("Select a span first: drag across empty ground.");
  void edit("lock a span of the bed", (revision) => api.lockBed(bed.id, { revision, ...span, on }));
}

const slows = new Drafts(
  () => {
    const bed = bedInHand();
    return bed && { bed: bed.id, rule: setOf(bed).slow };
  },
  ({ bed, rule }) => api.slowDraft(bed, rule),
  (slowDraft) => useBalance.setState({ slowDraft }),
  { name: "slow", read: () => setOf(bedInHand()).slow, put: (rule) => setRules("slow", rule) },
);

export function setSlow(values: Partial<SlowRule>) {
  setRules("slow", values);
  slows.follow();
}

export function draftSlow() {
  ducks.drop();
  void slows.make();
}

export async function acceptSlow() {
  await slows.accept("keep the slow ride", (revision, { bed, rule }, { stamp }) =>
    api.acceptSlow(bed, { revision, rule, stamp }),
  );
}

export function draftOrAcceptSlow() {
  if (useBalance.getState().slowDraft) void acceptSlow();
  else draftSlow();
}

// --- the compressor

export function setLoad(values: LoadChange): Promise<boolean> {
  const track = focused();
  return track
    ? edit("set the compressor", (revision) => api.changeLoad(track.id, revision, values), {
        gesture: `load ${track.id} ${Object.keys(values)}`,
      })
    : Promise.resolve(false);
}

/** Take the threshold at which After has the average of Before. */
export function takeThreshold() {
  const figures = loadFigures();
  if (figures) void setLoad({ threshold_after: figures.load.proposed });
}

export const hearLoad = (load: boolean) => useView.setState({ load });
