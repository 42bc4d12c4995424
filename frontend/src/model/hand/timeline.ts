/** Clips along the axis, and the takes of a track: what the hand and the keys do in the stage Survey. */
import { create } from "zustand";
import { queries } from "../../api/cache";
import { api, type Clip, type Take, type Track, type Way } from "../../api/client";
import { keep, kept } from "../../parts/kept";
import { complain, tell } from "../../parts/messages";
import { engine } from "../../sound/engine";
import { toPoints } from "../heard/heard";
import { play, stop } from "../heard/listening";
import { hearTakeInstead } from "../heard/mix";
import { edit, editInHand } from "../server/edits";
import { focused, focusedClips, lookAt, phraseSpan, selectedClips } from "../server/focus";
import { overClips } from "../server/over";
import { useSession } from "../server/session";
import { heardLayers, inHand, type Span, select, useView } from "../view/view";

interface TimelineState {
  /** Clips that were copied or cut: of which track, and whether they leave it when they are pasted. */
  held: { track: string; clips: string[]; cut: boolean } | null;
  /** The phrase in hand, and which other take of it was heard last. */
  other: { clip: string; take: number } | null;
  /** Tracks that came together and wait to be laid out; what is likely is chosen beforehand. */
  offer: { tracks: string[]; likely: string; ways: string[] } | null;
}

export const useTimeline = create<TimelineState>(() => ({ held: null, other: null, offer: null }));

const need = (): { track: Track; clips: Clip[] } | null => {
  const track = focused();
  const clips = selectedClips();
  if (track && clips.length > 0) return { track, clips };
  tell("Select a phrase first: click it in its lane.");
  return null;
};

const ids = (clips: Clip[]) => clips.map((clip) => clip.id);
const earliest = (clips: Clip[]) => Math.min(...clips.map((clip) => clip.start));
const latest = (clips: Clip[]) => Math.max(...clips.map((clip) => clip.end));

/** Where clips are moved to: by how much, and to which lane if another. */
export interface Move {
  by: number;
  track?: string;
  take?: number;
}

export function moveClips(track: string, clips: string[], move: Move, gesture?: string): Promise<boolean> {
  const stays = move.track === undefined && move.take === undefined;
  const over = overClips(track, clips, (clip) => ({ ...laterBy(clip, stays && !clip.locked ? move.by : 0) }));
  return edit("move clips", (revision) => api.moveClips(track, { revision, clips, ...move }), { over, gesture });
}

const laterBy = (clip: Clip, by: number): Partial<Clip> => ({
  start: clip.start + by,
  end: clip.end + by,
  phrase_start: clip.phrase_start === null ? null : clip.phrase_start + by,
  phrase_end: clip.phrase_end === null ? null : clip.phrase_end + by,
  shift: clip.shift + by,
});

/** Move a clip to a place, wherever edits that are on their way have brought it by then. */
export function moveClipTo(track: string, id: string, at: number): Promise<boolean> {
  const by = (clip?: Clip) => (clip ? at - clip.start : 0);
  const over = overClips(track, [id], (clip) => laterBy(clip, by(clip)));
  return edit(
    "move a clip",
    (revision, _, __, said) => {
      const clip = said.clips[track]?.find((one) => one.id === id);
      return clip ? api.moveClips(track, { revision, clips: [id], by: by(clip) }) : null;
    },
    { over },
  );
}

export function moveSelected(by: number) {
  const chosen = need();
  if (chosen) void moveClips(chosen.track.id, ids(chosen.clips), { by }, `move ${ids(chosen.clips)}`);
}

export function copySelected(cut: boolean) {
  const chosen = need();
  if (!chosen) return;
  useTimeline.setState({ held: { track: chosen.track.id, clips: ids(chosen.clips), cut } });
  const many = chosen.clips.length === 1 ? "1 phrase" : `${chosen.clips.length} phrases`;
  tell(`${many} ${cut ? "cut" : "copied"}. Paste at the play line, on this or another track.`);
}

/** Paste what is held: its beginning at the play line, or at the time that it was copied from. */
export async function pasteHeld(there = false) {
  const track = focused();
  const { held } = useTimeline.getState();
  if (!track) return;
  if (!held) return tell("Nothing has been copied yet.");
  const own = (useSession.getState().clips[held.track] ?? []).filter((clip) => held.clips.includes(clip.id));
  if (there && own.length === 0) return tell("What was copied no longer exists.");
  const at = there ? earliest(own) : engine.seconds;
  if (held.cut) {
    if (own.length === 0) return tell("What was cut no longer exists.");
    const to = track.id === held.track ? {} : { track: track.id };
    const isStill = inHand();
    if (await moveClips(held.track, ids(own), { by: at - earliest(own), ...to })) {
      if (useTimeline.getState().held === held) useTimeline.setState({ held: null });
      if (isStill()) select(held.clips);
    }
    return;
  }
  await copyTo(track.id, held.track, held.clips, at);
}

export async function duplicateSelected() {
  const chosen = need();
  if (chosen) await copyTo(chosen.track.id, chosen.track.id, ids(chosen.clips), latest(chosen.clips));
}

async function copyTo(track: string, source: string, clips: string[], at: number) {
  let known = new Set<string>();
  const isOurs = await editInHand("paste clips", (revision) => {
    known = new Set(focusedClips().map((clip) => clip.id));
    return api.pasteClips(track, { revision, clips, source, at });
  });
  // the copies are in hand: what is done next is done to them
  if (isOurs) select(ids(focusedClips().filter((clip) => !known.has(clip.id) && clip.start >= at - 1e-3)));
}

export async function takeOutSelected() {
  const chosen = need();
  if (!chosen) return;
  const first = earliest(chosen.clips);
  const before = focusedClips().filter((clip) => clip.end <= first + 1e-4);
  // what lies before the silence is in hand, so that the gap can be closed at once
  select(ids(before.slice(-1)));
  const isStill = inHand();
  const done = await edit("remove clips", (revision) => api.takeOut(chosen.track.id, revision, ids(chosen.clips)));
  if (!done && isStill()) select(ids(chosen.clips));
}

export function closeGap() {
  const chosen = need();
  if (!chosen) return;
  const last = chosen.clips.reduce((a, b) => (b.end > a.end ? b : a));
  void edit("close the gap", (revision) => api.closeGap(chosen.track.id, revision, last.id));
}

export function bringHome() {
  const chosen = need();
  if (chosen)
    void edit("move clips back to where they were recorded", (revision) =>
      api.bringHome(chosen.track.id, revision, ids(chosen.clips)),
    );
}

export function trimEnd(track: string, clip: string, edge: "start" | "end", at: number): Promise<boolean> {
  const over = overClips(track, [clip], () => ({ [edge]: at }));
  return edit("trim a clip", (revision) => api.trimEnd(track, { revision, clip, edge, at }), { over });
}

export function trimHere(edge: "start" | "end") {
  const chosen = need();
  if (!chosen) return;
  const clip = chosen.clips[edge === "start" ? 0 : chosen.clips.length - 1]!;
  void trimEnd(chosen.track.id, clip.id, edge, engine.seconds);
}

// --- takes

const takesOf = (track: Track): Promise<Take[]> =>
  queries.fetchQuery({
    queryKey: ["takes", track.id, useSession.getState().header?.revision],
    queryFn: () => api.takes(track.id),
    staleTime: Number.POSITIVE_INFINITY,
  });

export const hearTake = (track: string, number: number) =>
  edit("hear another take", (revision) => api.hearTake(track, revision, number));
export const matchTakes = (track: string) => edit("match the takes", (revision) => api.matchTakes(track, revision));

const shared = (a: Span, b: Span) => Math.min(a.end, b.end) - Math.max(a.start, b.start);

/** What another take has at the time of a phrase of the one that is heard. */
function standingFor(clip: Clip, take: Take): Clip[] {
  const there = new Set(take.stands[clip.id]);
  return take.clips.filter((other) => there.has(other.id));
}

/** The take that a clip was chosen from: the one that its recording is of, where that is not the one it lies in. */
export function chosenFrom(track: Track, take: number, clip: Clip): string | null {
  const home = track.takes.find((one) => one.recordings.includes(clip.recording));
  return home && home.number !== take ? home.name : null;
}

/** What another take has at the time of a phrase, with the gain that makes it as loud; the first that has anything. */
async function alternative(track: Track, clip: Clip, numbers: number[]) {
  const takes = await takesOf(track);
  for (const number of numbers) {
    const take = takes.find((one) => one.number === number);
    const stands = take ? standingFor(clip, take) : [];
    if (!take || stands.length === 0) continue;
    const levels = stands.flatMap((one) => (one.after === null ? [] : [one.after]));
    const louder = clip.after! - levels.reduce((sum, one) => sum + one, 0) / Math.max(levels.length, 1);
    const points = toPoints(await api.gainPoints(track.id, heardLayers(useView.getState()), { take: number }));
    return { take, stands, gain: { at: points.at, db: points.db.map((db) => db + louder) } };
  }
  return "none";
}

/** Hear the phrase in hand in the next of the other takes, as loud as it is in this one. */
export async function hearOther() {
  const track = focused();
  const clip = selectedClips().find((one) => one.after !== null);
  if (!track || !clip) return tell("Select a phrase first; then hear it in the other takes.");
  const numbers = track.takes.map((take) => take.number).filter((number) => number !== track.take);
  if (numbers.length === 0) return tell("This track has a single take.");
  const { other } = useTimeline.getState();
  const last = other?.clip === clip.id ? numbers.indexOf(other.take) : -1;
  const inTurn = numbers.map((_, step) => numbers[(last + 1 + step) % numbers.length]!);
  // whoever presses again at once means the one after this
  const asked = { clip: clip.id, take: inTurn[0]! };
  useTimeline.setState({ other: asked });
  const isStill = inHand();
  try {
    const found = await alternative(track, clip, inTurn);
    // whoever has pressed again means another one, and so does who has turned to something else
    if (useTimeline.getState().other !== asked || !isStill()) return;
    if (found === "none") return tell("No other take has a phrase at this time.");
    const { take, stands, gain } = found;
    stop();
    const timeline = { ...track.timeline, key: take.key, frames: framesOf(track, take) };
    hearTakeInstead({ track: { ...track, take: take.number, timeline }, gain });
    useTimeline.setState({ other: { clip: clip.id, take: take.number } });
    const spans = stands.map(phraseSpan);
    play(Math.max(0, Math.min(...spans.map((s) => s.start)) - 0.15), Math.max(...spans.map((s) => s.end)) + 0.15);
    tell(`${take.name}, as loud as the phrase in hand. Shift+K chooses it.`);
  } catch (error) {
    complain(error);
  }
}

const framesOf = (track: Track, take: Take) => Math.round(take.duration * track.timeline.sample_rate);

// what is heard is the track's own take again, as soon as the other one has ended
useView.subscribe((now, old) => {
  if (old.playing && !now.playing) hearTakeInstead(null);
});

/** Put the take that was heard last in the place of the phrase in hand. */
export async function chooseOther() {
  const track = focused();
  const { other } = useTimeline.getState();
  const clip = selectedClips()[0];
  if (!track || !clip) return tell("Select a phrase first.");
  if (other?.clip !== clip.id) return tell("Hear the phrase in another take first (K).");
  stop();
  const span = phraseSpan(clip);
  if (
    !(await editInHand("choose the other take", (revision) => api.chooseTake(track.id, revision, clip.id, other.take)))
  )
    return;
  const now = focusedClips().find((one) => one.phrase_start !== null && shared(phraseSpan(one), span) > 0);
  if (now) select([now.id]);
}

// --- laying out what came together

const offerOf = (session: string) => `offer ${session}`;

/** Ask how files that came in together belong together, or ask no longer; the question outlives a reload. */
function setOffer(session: string, offer: TimelineState["offer"]) {
  keep(offerOf(session), offer);
  if (useSession.getState().id === session) useTimeline.setState({ offer });
}

/** Have the question that a session was left with, if the tracks that it is about are still there. */
export function offerAgain(session: string) {
  const { tracks = [], likely, ways } = kept<NonNullable<TimelineState["offer"]>>(offerOf(session));
  const there = useSession.getState().header?.tracks ?? [];
  const isThere = tracks.length > 1 && tracks.every((id) => there.some((track) => track.id === id));
  useTimeline.setState({ offer: isThere && likely && ways ? { tracks, likely, ways } : null });
}

export async function offerLayout(session: string, tracks: string[]) {
  if (tracks.length < 2) return;
  try {
    const { likely, ways } = await api.arrangement(session, tracks);
    // what follows another is laid out already
    setOffer(session, ways.length > 1 ? { tracks, likely, ways } : null);
  } catch (error) {
    complain(error);
  }
}

/** The tracks that a track could be a take of: others of its kind. */
export const alike = (tracks: Track[], track?: Track) =>
  tracks.filter((other) => other.id !== track?.id && other.kind === track?.kind && !other.follows);

/** Make a track a take of another one; both keep what is theirs. */
export function makeTake(track: string, of: string) {
  // the track that it goes to is in hand from then on
  lookAt(of);
  void edit("make a take of a track", (revision, id) =>
    api.arrange(id, { revision, tracks: [of, track], way: "takes" }),
  );
}

export async function layOut(way: string) {
  const { offer } = useTimeline.getState();
  if (!offer) return;
  if (
    way === "own" ||
    (await edit("lay the files out", (revision, id) =>
      api.arrange(id, { revision, tracks: offer.tracks, way: way as Way }),
    ))
  ) {
    setOffer(useSession.getState().id, null);
  }
}
