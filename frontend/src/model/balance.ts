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
  type LoadPhrase,
  type SlowDraft,
  type SlowRule,
  type Track,
} from "../api/client";
import { complain, tell } from "../parts/messages";
import { Drafts } from "./drafts";
import { focused, phraseSpan, selectedSpan } from "./focus";
import { playSelection } from "./listening";
import { reveal } from "./looking";
import { faderOf } from "./mix";
import { newest, takeBack } from "./newest";
import { edit, trackOf, useSession } from "./session";
import { redraw, select, useView } from "./view";

export type Leaf = "bed" | "load";

interface BalanceState {
  leaf: Leaf;
  distance: Distance | null;
  /** Short-term loudness of voice and bed, pairs, 10 a second. */
  distanceCourse: Float32Array;
  /** What the hand has set of how the bed is to make room, and the draft of it. */
  duck: Partial<DuckRule>;
  duckDraft: DuckDraft | null;
  slow: Partial<SlowRule>;
  slowDraft: SlowDraft | null;
  load: Load | null;
  /** Highest reduction before and after, pairs, 20 a second. */
  loadCourse: Float32Array;
  /** The highest of them. */
  loadMost: number;
  /** Whether figures are being worked out anew. */
  working: boolean;
}

const EMPTY = new Float32Array(0);
export const useBalance = create<BalanceState>(() => ({
  leaf: "bed",
  distance: null,
  distanceCourse: EMPTY,
  duck: {},
  duckDraft: null,
  slow: {},
  slowDraft: null,
  load: null,
  loadCourse: EMPTY,
  loadMost: 0,
  working: false,
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
function refreshBalance() {
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
  const distance = await newest(SHOWN, () => api.distance(session, voice));
  if (!distance) return false;
  useBalance.setState({ distance });
  const distanceCourse = await newest(SHOWN, () => api.distanceCourse(session, voice));
  if (distanceCourse) useBalance.setState({ distanceCourse });
  return distanceCourse !== null;
}

async function loadLoad(track: Track) {
  if (track.kind !== "voice" || track.timeline.missing) {
    takeBack(SHOWN);
    useBalance.setState({ load: null, loadCourse: EMPTY });
    return true;
  }
  const loadCourse = await newest(SHOWN, () => api.loadCourse(track.id));
  if (!loadCourse) return false;
  useBalance.setState({ loadCourse, loadMost: loadCourse.reduce((a, b) => Math.max(a, b), 0) });
  const load = await newest(SHOWN, () => api.load(track.id));
  if (load) useBalance.setState({ load });
  return load !== null;
}

/** Show that it is being worked for as long as ``work`` is not done; it answers with no where it was overtaken. */
async function having(work: () => Promise<boolean>) {
  useBalance.setState({ working: true });
  try {
    if (await work()) useBalance.setState({ working: false });
  } catch (error) {
    loaded = "";
    useBalance.setState({ working: false });
    complain(error);
  }
}

useSession.subscribe((now, old) => {
  if (now.id !== old.id) {
    takeBack(SHOWN);
    loaded = "";
    useBalance.setState({ distance: null, load: null, duck: {}, working: false });
  }
  refreshBalance();
});
useView.subscribe((now, old) => {
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

/** The rule of the bed in hand, with what the hand has set of it. */
export function duckRule(): DuckRule | null {
  const bed = bedInHand();
  return bed ? { ...(bed.duck as DuckRule), ...useBalance.getState().duck } : null;
}

const ducks = new Drafts(
  () => {
    const bed = bedInHand();
    return bed && api.duckDraft(bed.id, useBalance.getState().duck);
  },
  (duckDraft) => useBalance.setState({ duckDraft }),
);

export function setDuck(values: Partial<DuckRule>) {
  useBalance.setState((now) => ({ duck: { ...now.duck, ...values } }));
  ducks.follow();
}

export function draftDuck() {
  if (!bedInHand()) return tell("No track is a bed yet. Say of one that it is.");
  slows.drop();
  void ducks.make();
}

export async function acceptDuck() {
  const bed = bedInHand();
  const { duck, duckDraft } = useBalance.getState();
  if (!bed || !duckDraft) return;
  if (await ducks.accept((revision) => api.acceptDuck(bed.id, revision, duck))) useBalance.setState({ duck: {} });
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
    return bed && api.slowDraft(bed.id, useBalance.getState().slow);
  },
  (slowDraft) => useBalance.setState({ slowDraft }),
);

export function setSlow(values: Partial<SlowRule>) {
  useBalance.setState((now) => ({ slow: { ...now.slow, ...values } }));
  slows.follow();
}

export function draftSlow() {
  ducks.drop();
  void slows.make();
}

export async function acceptSlow() {
  const bed = bedInHand();
  if (bed) await slows.accept((revision) => api.acceptSlow(bed.id, revision, useBalance.getState().slow));
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

// --- the worklist

export interface BalanceItem {
  id: string;
  track: string;
  clip: string;
  value: number;
  before: number | null;
  off: boolean;
}

/** Phrases that are too close to the bed, or in which the compressor works hardest; worst first, or by time. */
export function balanceItems(state: BalanceState, order: "worst" | "time"): BalanceItem[] {
  const clips = useSession.getState().clips;
  const start = (item: BalanceItem) => clips[item.track]?.find((clip) => clip.id === item.clip)?.start ?? 0;
  let items: BalanceItem[];
  if (state.leaf === "bed") {
    const drafted = new Map(state.duckDraft?.phrases.map((phrase) => [phrase.clip, phrase.after]));
    const wanted = wantedDistance();
    items = (state.distance?.phrases ?? []).flatMap((phrase) => {
      const value = apart(phrase);
      if (value === null) return [];
      const now = drafted.get(phrase.clip) ?? value;
      const off = wanted !== null && !keeps(now, wanted);
      return [{ id: phrase.clip, track: phrase.track, clip: phrase.clip, value: now, before: value, off }];
    });
    if (order === "worst") return items.sort((a, b) => a.value - b.value);
  } else {
    const track = focused()?.id ?? "";
    items = (state.load?.phrases ?? []).map((phrase: LoadPhrase) => ({
      id: phrase.clip,
      track,
      clip: phrase.clip,
      value: phrase.after,
      before: phrase.before,
      off: phrase.hard,
    }));
    if (order === "worst") return items.sort((a, b) => b.value - a.value);
  }
  return items.sort((a, b) => start(a) - start(b));
}

/** Go to a phrase, in focus with its voice, and play it. */
export function goToItem(item: BalanceItem, listen = true) {
  if (focused()?.id !== item.track && focused()?.kind === "voice") useView.setState({ focus: item.track });
  const clip = useSession.getState().clips[item.track]?.find((one) => one.id === item.clip);
  if (!clip) return;
  select([clip.id]);
  reveal(phraseSpan(clip));
  if (listen) playSelection();
}

export function stepBalance(direction: 1 | -1, onlyOff: boolean) {
  const { order, selection } = useView.getState();
  const items = balanceItems(useBalance.getState(), order).filter((item) => !onlyOff || item.off);
  if (items.length === 0) return tell(onlyOff ? "Nothing is off." : "There is nothing to go to here.");
  const at = items.findIndex((item) => selection.has(item.clip));
  const next = at < 0 ? (direction === 1 ? 0 : items.length - 1) : (at + direction + items.length) % items.length;
  goToItem(items[next]!);
}
