/** Clip gain and what else is done to phrases, and their drafts. */
import { api, type RuleChange } from "../api/client";
import { tell } from "../parts/messages";
import { engine, type Line } from "../sound/engine";
import { Drafts } from "./drafts";
import { edit, editInHand, tellDone } from "./edits";
import { focused, focusedClips, selectedClips } from "./focus";
import { asTheyAre, isJudged } from "./session";
import { inHand, redraw, type Span, select, useView } from "./view";

const needSelection = () => {
  const clips = selectedClips();
  if (clips.length === 0) tell("Select a phrase first: click it, or press . for the next in the worklist.");
  return clips;
};

export async function changeGain(ids: string[], change: { by?: number; to?: number }) {
  const track = focused();
  if (!track || ids.length === 0) return false;
  dropDraft();
  if (change.by !== undefined) hearHand(new Set(ids), change.by);
  const done = await edit((revision) => api.gain(track.id, revision, ids, change));
  if (!done) engine.hold([]);
  return done;
}

/** A line that is at ``by`` dB in spans and at 0 elsewhere. */
export const steps = (spans: Span[], by: number): Line =>
  spans.flatMap(
    ({ start, end }): Line => [
      [start, 0],
      [start, by],
      [end, by],
      [end, 0],
    ],
  );

/** Let what the hand does be heard at once; the compiled gain follows. */
export function hearHand(ids: Set<string>, by: number) {
  engine.hold(
    by === 0
      ? []
      : steps(
          focusedClips().filter((clip) => ids.has(clip.id) && !clip.locked),
          by,
        ),
  );
}

export function nudge(by: number) {
  const ids = needSelection().map((clip) => clip.id);
  if (ids.length) void changeGain(ids, { by });
}

export function zero() {
  const ids = needSelection().map((clip) => clip.id);
  if (ids.length) void changeGain(ids, { to: 0 });
}

export function toggleFlag(flag: "locked" | "left_out" | "reference") {
  const clips = needSelection();
  const track = focused();
  if (clips.length === 0 || !track) return;
  const ids = clips.map((clip) => clip.id);
  void edit((revision) => {
    const on = !asTheyAre("clips", track.id, clips).every((clip) => clip[flag]);
    return api.flag(track.id, revision, ids, flag, on);
  });
}

export function cutHere() {
  const track = focused();
  if (track) void edit((revision) => api.cut(track.id, revision, engine.seconds));
}

export async function joinSelected() {
  const track = focused();
  const clips = needSelection();
  if (!track || clips.length === 0) return;
  const ids = clips.map((clip) => clip.id);
  if (await editInHand((revision) => api.join(track.id, revision, ids))) select(ids.slice(0, 1));
}

export function moveBorder(clip: string, at: number) {
  const track = focused();
  return track ? edit((revision) => api.border(track.id, revision, clip, at)) : Promise.resolve(false);
}

// --- drafts

/** The selection if it holds phrases, else everything. */
function draftTarget(): string[] | undefined {
  const chosen = selectedClips().filter((clip) => clip.after !== null);
  return chosen.length ? chosen.map((clip) => clip.id) : undefined;
}

/** What the hand has set of the rule and not let go of yet: a draft that is on view shows it. */
let trial: RuleChange | undefined;

const drafts = new Drafts(
  () => {
    const track = focused();
    const { draftOf, peaks } = useView.getState();
    return track && { track: track.id, draftOf, trial, peaks };
  },
  ({ track, draftOf, trial, peaks }) => api.draft(track, draftOf, trial, peaks),
  (draft) => {
    useView.setState(draft ? { draft } : { draft, peaks: false });
    redraw();
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
  const done = await drafts.accept((revision, { track, draftOf, peaks }, { stamp }) =>
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
  if (await edit((revision) => api.findPhrases(track.id, revision))) {
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
