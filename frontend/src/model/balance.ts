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
import { focused, phraseSpan, selectedSpan } from "./focus";
import { playSelection } from "./listening";
import { reveal } from "./looking";
import { faderOf } from "./mix";
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
  void (leaf === "bed" ? loadDistance(id, track, key) : loadLoad(track, key));
}

async function loadDistance(session: string, track: Track, key: string) {
  const voice = track.kind === "voice" ? track.id : undefined;
  await having(key, async () => {
    const distance = await api.distance(session, voice);
    if (loaded === key) useBalance.setState({ distance });
    const distanceCourse = await api.distanceCourse(session, voice);
    if (loaded === key) useBalance.setState({ distanceCourse });
  });
}

async function loadLoad(track: Track, key: string) {
  if (track.kind !== "voice" || track.timeline.missing) {
    useBalance.setState({ load: null, loadCourse: EMPTY });
    return;
  }
  await having(key, async () => {
    const loadCourse = await api.loadCourse(track.id);
    if (loaded === key) useBalance.setState({ loadCourse, loadMost: loadCourse.reduce((a, b) => Math.max(a, b), 0) });
    const load = await api.load(track.id);
    if (loaded === key) useBalance.setState({ load });
  });
}

async function having(key: string, work: () => Promise<void>) {
  useBalance.setState({ working: true });
  try {
    await work();
  } catch (error) {
    if (loaded === key) loaded = "";
    complain(error);
  } finally {
    if (loaded === key || loaded === "") useBalance.setState({ working: false });
  }
}

useSession.subscribe((now, old) => {
  if (now.id !== old.id)
    useBalance.setState({ distance: null, load: null, duck: {}, duckDraft: null, slowDraft: null });
  refreshBalance();
});
useView.subscribe((now, old) => {
  if (now.stage !== old.stage || now.focus !== old.focus) {
    useBalance.setState({ duckDraft: null, slowDraft: null });
    refreshBalance();
  }
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

/** Counts what was asked for: an answer to an older question is not shown. */
let asked = 0;

export function setDuck(values: Partial<DuckRule>) {
  useBalance.setState((now) => ({ duck: { ...now.duck, ...values } }));
  if (useBalance.getState().duckDraft) void draftDuck();
}

export async function draftDuck() {
  const bed = bedInHand();
  if (!bed) return tell("No track is a bed yet. Say of one that it is.");
  const turn = ++asked;
  try {
    const duckDraft = await api.duckDraft(bed.id, useBalance.getState().duck);
    if (turn === asked) useBalance.setState({ duckDraft });
  } catch (error) {
    complain(error);
  }
}

export async function acceptDuck() {
  const bed = bedInHand();
  const { duck, duckDraft } = useBalance.getState();
  if (!bed || !duckDraft) return;
  asked++;
  if (await edit((revision) => api.acceptDuck(bed.id, revision, duck))) {
    useBalance.setState({ duckDraft: null, duck: {} });
  }
}

export const dropDuck = () => useBalance.setState({ duckDraft: null, slowDraft: null });

export function draftOrAcceptDuck() {
  const { leaf, duckDraft, slowDraft } = useBalance.getState();
  if (leaf === "load") return takeThreshold();
  if (slowDraft) void acceptSlow();
  else if (duckDraft) void acceptDuck();
  else void draftDuck();
}

/** Let drafts leave the selected span of the bed alone, or free what is locked in it. */
export function lockSpan(on: boolean) {
  const bed = bedInHand();
  const span = selectedSpan();
  if (!bed || !span) return tell("Select a span first: drag across empty ground.");
  void edit((revision) => api.lockBed(bed.id, { revision, ...span, on }));
}

export function setSlow(values: Partial<SlowRule>) {
  useBalance.setState((now) => ({ slow: { ...now.slow, ...values } }));
  if (useBalance.getState().slowDraft) void draftSlow();
}

export async function draftSlow() {
  const bed = bedInHand();
  if (!bed) return;
  const turn = ++asked;
  try {
    const slowDraft = await api.slowDraft(bed.id, useBalance.getState().slow);
    if (turn === asked) useBalance.setState({ slowDraft });
  } catch (error) {
    complain(error);
  }
}

export async function acceptSlow() {
  const bed = bedInHand();
  if (!bed) return;
  asked++;
  if (await edit((revision) => api.acceptSlow(bed.id, revision, useBalance.getState().slow)))
    useBalance.setState({ slowDraft: null });
}

export function draftOrAcceptSlow() {
  if (useBalance.getState().slowDraft) void acceptSlow();
  else void draftSlow();
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
