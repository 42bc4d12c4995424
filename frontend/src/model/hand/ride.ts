/** Everything that can be done with what is drawn: clip curve, ride and trim. */
import { api, type Changed, type LaneName, type PointsChange, type Track } from "../../api/client";
import { ask, tell } from "../../parts/messages";
import { engine } from "../../sound/engine";
import { type Line, stairs } from "../../sound/lines";
import { Drafts } from "../drafts/drafts";
import { gainSettled } from "../heard/heard";
import { hearHand } from "../server/ear";
import { allAnswered, edit, type Meant, tellDone } from "../server/edits";
import { duration, focused, focusedClips, phraseSpan, selectedClips, selectedSpan } from "../server/focus";
import { overTrack } from "../server/over";
import { inHand, LANE_NAMES, LANES, type Layer, type Span, useView } from "../view/view";
import { keptLift, liftLine, pointsLine } from "./hold";
import { type DraftOf, lanePoints, type RideState, useRide } from "./rideState";

interface RideMeant extends Pick<Meant, "over" | "gesture"> {
  layer?: Layer;
}

/** Run an edit of what is drawn; a draft that was shown is gone with it. ``line`` is heard of it until it is answered. */
async function editRide(
  words: string,
  work: (track: string, revision: number, lane: LaneName) => Promise<Changed | null>,
  line: Line = [],
  { layer = useView.getState().lane as Layer, over, gesture }: RideMeant = {},
) {
  const track = focused();
  if (!track) return false;
  dropRideDraft();
  const { lane } = useView.getState();
  return edit(words, (revision) => work(track.id, revision, lane), {
    heard: { track: track.id, layer, line },
    over,
    gesture,
  });
}

// --- drafts

const draftTarget = (): DraftOf => {
  const { span } = useView.getState();
  if (span) return { span: [span.start, span.end] };
  const chosen = selectedClips().filter((clip) => clip.after !== null);
  return chosen.length ? { clips: chosen.map((clip) => clip.id) } : {};
};

const drafts = new Drafts(
  () => {
    const track = focused();
    const { rule, draftOf } = useRide.getState();
    return track && { track: track.id, body: { rule, ...draftOf } };
  },
  ({ track, body }) => api.rideDraft(track, body),
  (draft) => useRide.setState({ draft }),
  {
    name: "ride",
    read: () => ({ rule: useRide.getState().rule, draftOf: useRide.getState().draftOf }),
    put: ({ rule, draftOf }) => useRide.setState({ rule, draftOf }),
  },
);

export function makeRideDraft() {
  if (!useRide.getState().draft) useRide.setState({ draftOf: draftTarget() });
  return drafts.make();
}

export async function acceptRideDraft() {
  const done = await drafts.accept("accept the ride", (revision, { track, body }, { stamp }) =>
    api.acceptRide(track, { revision, stamp, ...body }),
  );
  if (done) tellDone();
}

export const dropRideDraft = () => drafts.drop();

export const draftOrAcceptRide = () => void (useRide.getState().draft ? acceptRideDraft() : makeRideDraft());

/** Another value of the rule, or all of it as it comes: a draft that is shown follows. */
export function setRideRule(change: RideState["rule"] | null) {
  const rule = change === null ? {} : { ...useRide.getState().rule, ...change };
  useRide.setState({ rule });
  drafts.follow();
}

// --- spans

export function liftSpan(span: Span, by: number, gesture?: string) {
  const { start, end } = span;
  const line = liftLine(span, keptLift(span, by));
  const lift = (track: string, revision: number, lane: LaneName) => api.lift(track, { revision, lane, start, end, by });
  return editRide("lift a span", lift, line, { gesture });
}

/** Up and down: the selected points, else what is selected as a span. */
export function nudgeRide(by: number) {
  const { points, lane } = useView.getState();
  if (points.size) return void movePoints(points, 0, by, `nudge ${lane} ${[...points]}`);
  const span = selectedSpan();
  if (span) void liftSpan(span, by, `nudge ${lane} ${span.start} ${span.end}`);
  else tell("Select a span first: drag across it, or click a phrase.");
}

/** Make the moves of the span, or of all, larger or smaller. */
export function scaleSpan(span: Span, factor: number, around?: number) {
  const { start, end } = span;
  void editRide("scale a span", (track, revision, lane) =>
    api.scaleRange(track, { revision, lane, start, end, factor, around }),
  );
}

/**
 * Points at both ends of the selected phrases, of the span, or of every phrase; ``four``: and where the ramps begin. Where that
 * is not said, these are made once the others are there.
 */
export function makeBorders(four: boolean | null = null) {
  const { span } = useView.getState();
  const chosen = selectedClips();
  const clips = (chosen.length ? chosen : focusedClips()).filter((clip) => clip.phrase_start !== null);
  const spans = span ? [span] : clips.map(phraseSpan);
  if (spans.length === 0) return;
  const pairs = spans.map(({ start, end }): [number, number] => [start, end]);
  void editRide("make points", (track, revision, lane) =>
    api.makeBorders(track, { revision, lane, spans: pairs, four }),
  );
}

/** Select the points of the lane in the span, or all of them. */
export async function selectPointsInSpan() {
  const isStill = inHand();
  await allAnswered();
  await gainSettled();
  // whoever has turned to something else by now has that in hand
  if (!isStill()) return;
  const span = selectedSpan();
  const inside = lanePoints().filter(({ at }) => !span || (at >= span.start - 1e-6 && at <= span.end + 1e-6));
  if (inside.length) selectPoints(inside.map((point) => point.id));
  else tell("There are no points here.");
}

/** Smooth the span, or all: as strongly as the last time, or as said. */
export function smoothSpan(seconds = useRide.getState().smoothing) {
  useRide.setState({ smoothing: seconds });
  changeSpan("smooth", seconds);
}

export function changeSpan(what: "delete" | "smooth" | "thin", seconds?: number) {
  const span = selectedSpan();
  const track = focused();
  if (!track) return;
  if (!span && what === "delete") return tell("Select points, or a span: drag across it.");
  const { start, end } = span ?? { start: 0, end: track.timeline.duration };
  void editRide("change a span", (id, revision, lane) =>
    api.changeRange(id, { revision, lane, start, end, what, seconds }),
  );
}

export const drawLine = (points: [number, number][], line: Line) =>
  editRide("draw a line", (track, revision, lane) => api.drawLine(track, { revision, lane, points }), line);

let copied: { track: string; lane: LaneName; start: number; end: number } | null = null;

/** Remember a span of the lane, to be put somewhere else: the one of the selected points, the selected one, or all of it. */
export function copySpan() {
  const track = focused();
  if (!track) return;
  const { points, lane } = useView.getState();
  const chosen = lanePoints().filter((point) => points.has(point.id));
  if (chosen.length === 1) return tell("Select two points or more: what lies between them is copied as well.");
  const between = chosen.length ? { start: chosen[0]!.at, end: chosen.at(-1)!.at } : null;
  const span = between ?? selectedSpan() ?? { start: 0, end: track.timeline.duration };
  copied = { track: track.id, lane, ...span };
  const what = chosen.length ? `${chosen.length} points` : `${(span.end - span.start).toFixed(1)} s`;
  tell(
    `${what} of the ${LANE_NAMES[lane]} copied. Paste at the play line, or with Shift at the same time on another track.`,
  );
}

/** Put what was copied at the play line, or at the time that it was copied from. */
export function pasteSpan(there = false) {
  if (!copied) return tell("Nothing has been copied yet: select a span and copy it.");
  const { track: from_track, lane: from_lane, start, end } = copied;
  const at = there ? start : engine.seconds;
  void editRide("paste a span", (track, revision, lane) =>
    api.pasteRange(track, { revision, lane, at, start, end, from_track, from_lane }),
  );
}

// --- points

const changePoints = (points: Iterable<string>, change: PointsChange, line: Line = [], gesture?: string) =>
  editRide(
    "change points",
    (track, revision, lane) => api.changePoints(track, { revision, lane, points: [...points], ...change }),
    line,
    { gesture },
  );

export const movePoints = (points: Iterable<string>, seconds: number, by: number, gesture?: string) =>
  changePoints(points, { seconds, by }, pointsLine(new Set(points), seconds, by), gesture);

/** Move a point to a moment, wherever edits that are on their way have brought it by then. */
export const movePointTo = (point: string, at: number) => changePoints([point], { at });

export const setPoints = (points: Iterable<string>, change: { to?: number; shape?: "linear" | "smooth" | "hold" }) =>
  changePoints(points, change);

export async function putPoint(at: number, db: number) {
  const isStill = inHand();
  if (!(await editRide("make a point", (track, revision, lane) => api.putPoint(track, { revision, lane, at, db }))))
    return;
  await gainSettled();
  if (!isStill()) return;
  const made = lanePoints().find((point) => Math.abs(point.at - at) < 1e-5);
  if (made) selectPoints([made.id]);
}

/** Delete the selected points, or what lies in the selected span. */
export async function deleteDrawn() {
  const { points } = useView.getState();
  if (points.size === 0) return changeSpan("delete");
  const isStill = inHand();
  if ((await changePoints(points, { gone: true })) && isStill()) selectPoints([]);
}

export const selectPoints = (points: Iterable<string>) =>
  useView.setState({ points: new Set(points), selection: new Set(), marks: new Set(), span: null });

// --- lanes as a whole

export const otherLane = () =>
  useView.setState((view) => ({
    lane: LANES[(LANES.indexOf(view.lane) + 1) % LANES.length]!,
    points: new Set<string>(),
  }));

export const clearLane = () =>
  void editRide("take the lane away", (track, revision, lane) => api.clearLane(track, revision, lane));

/** Let the trim of the whole track be heard while it is dragged. */
export function hearTrim(db: number) {
  const track = focused();
  if (track) hearHand({ track: track.id, layer: "trim", line: trimLine(db) });
}

/** What is heard of another trim of the whole track, over what it is by now: no matter how much of that is compiled. */
function trimLine(db: number): Line {
  const { offset, off } = focused()?.trim ?? { offset: db, off: true };
  return off ? [] : stairs([{ start: -1, end: duration() + 1, by: db - offset }]);
}

/** Change the trim of the track in focus; it is shown as it will be until that is answered. */
function editTrim(words: string, change: Partial<Track["trim"]>, line: Line = [], gesture?: string) {
  const track = focused();
  const { offset: db, off } = change;
  return editRide(words, (id, revision) => api.trim(id, revision, { db, off }), line, {
    layer: "trim",
    over: track && overTrack(track.id, ({ trim }) => ({ trim: { ...trim, ...change } })),
    gesture,
  });
}

export function setTrim(db: number) {
  const done = editTrim("trim the track", { offset: db }, trimLine(db), `trim ${focused()?.id}`);
  hearHand(null);
  return done;
}

export const switchTrim = (on: boolean) => void editTrim("switch the trim", { off: !on });

/** Move what the lane in hand draws, in the span or everywhere, into another lane: what is heard stays. */
export function moveLane(lane: LaneName, to: LaneName) {
  const { span } = useView.getState();
  const body = { lane, to, span: span ? ([span.start, span.end] as [number, number]) : undefined };
  void editRide("move a lane", (track, revision) => api.moveLane(track, { revision, ...body }));
}

export const foldTrim = () =>
  void editRide("fold the trim", (track, revision) => api.moveLane(track, { revision, lane: "trim", to: "ride" }));

export const setWorkingRange = (low: number, high: number) =>
  void editRide("set the working range", (track, revision) => api.workingRange(track, revision, low, high));

/** Bring a curve in; where something is drawn in the lane already, it is asked for first. */
export function bringCurveIn(file: File) {
  const { lane } = useView.getState();
  const track = focused();
  if (!track) return;
  const isStill = inHand();
  const bring = async () => {
    const done = await edit("import a curve", (revision) => api.bringCurveIn(track.id, revision, lane, file));
    if (done) tell(`“${file.name}” is the ${LANE_NAMES[lane]} now.`);
  };
  dropRideDraft();
  const there = LANE_NAMES[lane];
  if (!track.lanes.includes(lane)) return void bring();
  ask(`“${file.name}” would take the place of the ${there} of ${track.name}.`, `Replace the ${there}`, () => {
    if (isStill()) void bring();
    else tell(`Something else is in hand by now: “${file.name}” was not brought in.`);
  });
}
