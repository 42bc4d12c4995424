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
} from "../api/client";
import { complain, tell } from "../parts/messages";
import { Drafts } from "./drafts";
import { edit } from "./edits";
import { focused, selectedSpan } from "./focus";
import { faderOf } from "./mix";
import { newest, takeBack } from "./newest";
import { trackOf, useSession } from "./session";
import { redraw, useView } from "./view";

export type Leaf = "bed" | "load";

export interface BalanceState {
  leaf: Leaf;
  distance: Distance | null;
  /** Short-term loudness of voice and bed, pairs, 10 a second. */
  distanceCourse: Float32Array;
  /** What the hand has set of how the bed is to make room, and the draft of it. */
  duck: Partial<DuckRule>;
  duckDraft: DuckDraft | null;
  slow: Partial<SlowRule>;
  /** The bed that both are for: those of another are as they come. */
  rulesOf: string;
  slowDraft: SlowDraft | null;
  load: Load | null;
  /** Highest reduction before and after, pairs, 20 a second. */
  loadCourse: Float32Array;
  /** The highest of them. */
  loadMost: number;
  /** Whether figures are being worked out anew. */
  working: boolean;
  /** Whether they were called off, or could not be had. */
  missing: boolean;
}

const EMPTY = new Float32Array(0);
export const useBalance = create<BalanceState>(() => ({
  leaf: "bed",
  distance: null,
  distanceCourse: EMPTY,
  duck: {},
  duckDraft: null,
  slow: {},
  rulesOf: "",
  slowDraft: null,
  load: null,
  loadCourse: EMPTY,
  loadMost: 0,
  working: false,
  missing: false,
}));

export const COURSE_RATE = 10;
export const LOAD_RATE = 20;

/** The bed that is worked on: the one in focus, else the first. */
export function bedInHand(): Track | undefined {
  const track = focused();
  if (track?.kind === "bed") return track;
  return useSession.getState().header?.tracks.find((one) => one.kind === "bed");
}

let loaded = "";

/** Have what the stage Balance shows, while it is open. */
export function refreshBalance() {
  const { header, id } = useSession.getState();
  const { stage, focus } = useView.getState();
  const track = trackOf(useSession.getState(), focus);
  if (!header || !track || stage !== "balance") return;
  const { leaf } = useBalance.getState();
  const key = `${id}@${header.revision}:${track.id}:${leaf}`;
  if (key === loaded) return;
  loaded = key;
  void having(() => (leaf === "bed" ? loadDistance(id, track) : loadLoad(track)));
}

const SHOWN = "balance";

async function loadDistance(session: string, track: Track) {
  const voice = track.kind === "voice" ? track.id : undefined;
  const distance = await newest(SHOWN, (signal) => api.distance(session, voice, signal));
  if (!distance) return false;
  useBalance.setState({ distance });
  const distanceCourse = await newest(SHOWN, (signal) => api.distanceCourse(session, voice, signal));
  if (distanceCourse) useBalance.setState({ distanceCourse });
  return distanceCourse !== null;
}

async function loadLoad(track: Track) {
  if (track.kind !== "voice" || track.timeline.missing) {
    takeBack(SHOWN);
    useBalance.setState({ load: null, loadCourse: EMPTY });
    return true;
  }
  const loadCourse = await newest(SHOWN, (signal) => api.loadCourse(track.id, signal));
  if (!loadCourse) return false;
  useBalance.setState({ loadCourse, loadMost: loadCourse.reduce((a, b) => Math.max(a, b), 0) });
  const load = await newest(SHOWN, (signal) => api.load(track.id, signal));
  if (load) useBalance.setState({ load });
  return load !== null;
}

/** The stage is left: what is being worked out for it is not wanted, and is asked for again when it is come back to. */
function stopWorking() {
  takeBack(SHOWN);
  if (!useBalance.getState().working) return;
  loaded = "";
  useBalance.setState({ working: false });
}

/** Show that it is being worked for as long as ``work`` is not done; it answers with no where it was overtaken. */
async function having(work: () => Promise<boolean>) {
  useBalance.setState({ working: true, missing: false });
  try {
    if (await work()) useBalance.setState({ working: false });
  } catch (error) {
    loaded = "";
    // those of before are not of what is so now
    useBalance.setState({ working: false, missing: true, distance: null, load: null, loadCourse: EMPTY });
    complain(error);
  }
}

useSession.subscribe((now, old) => {
  if (now.id !== old.id) {
    takeBack(SHOWN);
    loaded = "";
    useBalance.setState({
      distance: null,
      load: null,
      duck: {},
      slow: {},
      rulesOf: "",
      working: false,
      missing: false,
    });
  }
  refreshBalance();
});
useView.subscribe((now, old) => {
  if (old.stage === "balance" && now.stage !== old.stage) stopWorking();
  if (now.stage !== old.stage || now.focus !== old.focus) refreshBalance();
});
useBalance.subscribe((now, old) => {
  if (now.leaf !== old.leaf) refreshBalance();
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
);

export function setDuck(values: Partial<DuckRule>) {
  setRules("duck", values);
  ducks.follow();
}

export function draftDuck() {
  if (!bedInHand()) return tell("No track is a bed yet. Say of one that it is.");
  slows.drop();
  void ducks.make();
}

export async function acceptDuck() {
  const done = await ducks.accept((revision, { bed, rule }, { stamp }) => {
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
  void edit((revision) => api.lockBed(bed.id, { revision, ...span, on }));
}

const slows = new Drafts(
  () => {
    const bed = bedInHand();
    return bed && { bed: bed.id, rule: setOf(bed).slow };
  },
  ({ bed, rule }) => api.slowDraft(bed, rule),
  (slowDraft) => useBalance.setState({ slowDraft }),
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
  await slows.accept((revision, { bed, rule }, { stamp }) => api.acceptSlow(bed, { revision, rule, stamp }));
}

export function draftOrAcceptSlow() {
  if (useBalance.getState().slowDraft) void acceptSlow();
  else draftSlow();
}

// --- the compressor

export function setLoad(values: LoadChange): Promise<boolean> {
  const track = focused();
  return track ? edit((revision) => api.changeLoad(track.id, revision, values)) : Promise.resolve(false);
}

/** Take the threshold at which After has the average of Before. */
export function takeThreshold() {
  const { load } = useBalance.getState();
  if (load) void setLoad({ threshold_after: load.proposed });
}

export const hearLoad = (load: boolean) => useView.setState({ load });
