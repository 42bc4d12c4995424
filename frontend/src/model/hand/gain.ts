/** Clip gain and what else is done to phrases, and their drafts. */
import { api, type RuleChange } from "../../api/client";
import { tell } from "../../parts/messages";
import { engine } from "../../sound/engine";
import { slopes } from "../../sound/lines";
import { Drafts } from "../drafts/drafts";
import { heard } from "../heard/heard";
import { hearHand, type Over } from "../server/ear";
import { edit, editInHand, tellDone } from "../server/edits";
import { focused, focusedClips, selectedClips } from "../server/focus";
import { gainOf, overClips, withGain } from "../server/over";
import { isJudged, useSession } from "../server/session";
import { inHand, redraw, select, useView } from "../view/view";
import { Ways } from "./ways";

const needSelection = () => {
  const clips = selectedClips();
  if (clips.length === 0) tell("Select a phrase first: click it, or press . for the next in the worklist.");
  return clips;
};

export async function changeGain(ids: string[], change: { by?: number; to?: number }, gesture?: string) {
  const track = focused();
  if (!track || ids.length === 0) return false;
  dropDraft();
  return edit("change clip gain", (revision) => api.gain(track.id, revision, ids, change), {
    over: overClips(track.id, ids, (clip) => withGain(clip, gainOf(clip, change))),
    heard: gainHeard(new Set(ids), change),
    gesture,
  });
}

/** What is heard of phrases that are moved or set. */
function gainHeard(ids: Set<string>, change: { by?: number; to?: number }): Over {
  const clips = focusedClips().filter((clip) => ids.has(clip.id));
  const all = focusedClips();
  const ways = new Ways(all, heard().ways, focused()!.timeline.sample_rate);
  const line = slopes(
    clips.map((clip) => {
      const place = ways.place(clip);
      const from: [number, number] = place > 0 ? ways.after(place - 1) : [clip.start, clip.start];
      const to: [number, number] = place + 1 < all.length ? ways.after(place) : [clip.end, clip.end];
      return { from, to, by: gainOf(clip, change) - clip.gain };
    }),
  );
  return { track: focused()!.id, layer: "clip", line };
}

/** Let what the hand does be heard at once; the compiled gain follows. */
export const hearGain = (ids: Set<string>, by: number) => hearHand(by === 0 ? null : gainHeard(ids, { by }));

export function nudge(by: number) {
  const ids = needSelection().map((clip) => clip.id);
  if (ids.length) void changeGain(ids, { by }, `nudge ${ids}`);
}

export function zero() {
  const ids = needSelection().map((clip) => clip.id);
  if (ids.length) void changeGain(ids, { to: 0 });
}

const FLAGS = { locked: "lock phrases", left_out: "leave phrases out", reference: "set the reference" };

export async function toggleFlag(flag: keyof typeof FLAGS) {
  const clips = needSelection();
  const track = focused();
  if (clips.length === 0 || !track) return;
  const ids = clips.map((clip) => clip.id);
  const on = !clips.every((clip) => clip[flag]);
  await edit(FLAGS[flag], (revision) => api.flag(track.id, revision, ids, flag, on), {
    over: overClips(track.id, ids, () => ({ [flag]: on })),
  });
}

export function cutHere() {
  const track = focused();
  if (track) void edit("cut a clip", (revision) => api.cut(track.id, revision, engine.seconds));
}

export async function joinSelected() {
  const track = focused();
  const clips = needSelection();
  if (!track || clips.length === 0) return;
  const ids = clips.map((clip) => clip.id);
  if (await editInHand("join phrases", (revision) => api.join(track.id, revision, ids))) select(ids.slice(0, 1));
}

export function moveBorder(clip: string, at: number) {
  const track = focused();
  const clips = focusedClips();
  const next = clips[clips.findIndex((one) => one.id === clip) + 1]?.id ?? "";
  if (!track) return Promise.resolve(false);
  const over = overClips(track.id, [clip, next], (one) => (one.id === clip ? { end: at } : { start: at }));
  return edit("move a border", (revision) => api.border(track.id, revision, clip, at), { over });
}

// --- drafts

/** The selection if it holds phrases, else everything. */
function draftTarget(): string[] | undefined {
  const chosen = selectedClips().filter((clip) => clip.after !== null);
  return chosen.length ? chosen.map((clip) => clip.id) : undefined;
}

/** What the hand has set of the rule and not let go of yet: a draft that is on view shows it. */
let trial: RuleChange | undefined;

const sessionRule = () => useSession.getState().header?.rule ?? {};

/** What of a rule the server does not know yet. */
function untold(rule: RuleChange): RuleChange | undefined {
  const known = sessionRule() as RuleChange;
  const names = (Object.keys(rule) as (keyof RuleChange)[]).filter((name) => rule[name] !== known[name]);
  return names.length ? Object.fromEntries(names.map((name) => [name, rule[name]])) : undefined;
}

const drafts = new Drafts(
  () => {
    const track = focused();
    const { draftOf, peaks } = useView.getState();
    // a rule that has been kept meanwhile is the one that was tried
    return track && { track: track.id, draftOf, rule: { ...sessionRule(), ...trial }, peaks };
  },
  ({ track, draftOf, rule, peaks }) => api.draft(track, draftOf, untold(rule), peaks),
  (draft) => {
    useView.setState(draft ? { draft } : { draft, peaks: false });
    redraw();
  },
  {
    name: "gain",
    read: () => ({ draftOf: useView.getState().draftOf, peaks: useView.getState().peaks }),
    put: ({ draftOf, peaks }) => useView.setState({ draftOf, peaks }),
  },
);

export function makeDraft() {
  if (!useView.getState().draft) useView.setState({ draftOf: draftTarget() });
  return drafts.make();
}

/** Show what a draft that is on view would be by another rule, without keeping it; what is kept it follows by itself. */
export function tryRule(rule: RuleChange | undefined) {
  trial = rule;
  if (rule) drafts.follow();
}

/** Turn the short peaks that hold phrases back down as well, or do not. */
export function turnPeaks(peaks: boolean) {
  useView.setState({ peaks });
  drafts.follow();
}

export async function acceptDraft() {
  const done = await drafts.accept("accept the draft", (revision, { track, draftOf, peaks }, { stamp }) =>
    api.acceptDraft(track, { revision, clips: draftOf, peaks, stamp }),
  );
  if (done) tellDone();
}

/** Find the phrases of the track in focus anew, none longer than the rule says. */
export async function findPhrases() {
  const track = focused();
  if (!track) return;
  dropDraft();
  const isStill = inHand();
  if (await edit("find the phrases again", (revision) => api.findPhrases(track.id, revision))) {
    if (isStill()) select([]);
    tellDone();
  }
}

export const dropDraft = () => drafts.drop();

export function draftOrAccept() {
  if (useView.getState().draft) void acceptDraft();
  else void makeDraft();
}

export const selectAll = () =>
  select(
    focusedClips()
      .filter(isJudged)
      .map((clip) => clip.id),
  );
