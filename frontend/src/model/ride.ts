/** The ride and its trim: what is drawn, and everything that can be done with it. */
import { create } from "zustand";
import {
  api,
  type Changed,
  type Clip,
  type LaneName,
  type Ride,
  type RideDraft,
  type RidePoint,
  type RideRule,
} from "../api/client";
import { complain, tell } from "../parts/messages";
import { firstPlace } from "../parts/search";
import { engine, type Line } from "../sound/engine";
import {
  duration,
  focused,
  focusedClips,
  phraseSpan,
  playSelection,
  reveal,
  seek,
  selectedClips,
  selectedSpan,
  steps,
} from "./actions";
import { gainAt, useCurve } from "./curve";
import { edit, useSession } from "./session";
import { hand, LANE_NAMES, LANES, redraw, type Span, useView } from "./view";

/** What a draft is limited to: nothing, some phrases, or a span. */
interface DraftOf {
  clips?: string[];
  span?: [number, number];
}

interface RideState {
  track: string;
  ride: Ride | null;
  draft: RideDraft | null;
  draftOf: DraftOf;
  rule: { [name in keyof Required<RideRule>]: number };
}

/** The rule of a draft as it comes; times are seconds. */
export const RIDE_RULE = {
  strength: 100,
  most_up: 6,
  most_down: 9,
  dead_band: 1.5,
  attack: 0.05,
  release: 0.1,
  look_ahead: 0.07,
  error: 0.3,
};

export const useRide = create<RideState>(() => ({
  track: "",
  ride: null,
  draft: null,
  draftOf: {},
  rule: RIDE_RULE,
}));

let loaded = "";
let loading: Promise<void> = Promise.resolve();

/** Have the lanes of the track in focus while the stage Ride is open. */
function refresh(): Promise<void> {
  const track = focused();
  const { header } = useSession.getState();
  if (!track || !header || track.recording.missing || useView.getState().stage !== "ride") return loading;
  const key = `${track.id}@${header.revision}`;
  if (key === loaded) return loading;
  loaded = key;
  loading = load(track.id, key);
  return loading;
}

async function load(track: string, key: string) {
  if (useRide.getState().track !== track) useRide.setState({ track, ride: null, draft: null });
  try {
    const ride = await api.ride(track);
    if (loaded !== key) return;
    useRide.setState({ ride });
    const count = ride[useView.getState().lane].length;
    const kept = [...useView.getState().points].filter((place) => place < count);
    useView.setState({ points: new Set(kept) });
  } catch (error) {
    if (loaded === key) loaded = "";
    complain(error);
  }
}

useSession.subscribe(() => void refresh());
useView.subscribe((now, old) => {
  if (now.focus !== old.focus || now.stage !== old.stage) void refresh();
});
useRide.subscribe(redraw);

export const lanePoints = (): RidePoint[] => useRide.getState().ride?.[useView.getState().lane] ?? [];

/** A trim is moved as a whole by its offset, which its points do not hold. */
export const laneOffset = (): number =>
  useView.getState().lane === "trim" ? (useRide.getState().ride?.offset ?? 0) : 0;

/** Run an edit of the ride; a draft that was shown is gone with it. */
async function editRide(work: (track: string, revision: number, lane: LaneName) => Promise<Changed>) {
  const track = focused();
  if (!track) return false;
  useRide.setState({ draft: null });
  const { lane } = useView.getState();
  const done = await edit((revision) => work(track.id, revision, lane));
  if (!done) engine.hold([]);
  return done;
}

// --- drafts

const draftTarget = (): DraftOf => {
  const { span } = useView.getState();
  if (span) return { span: [span.start, span.end] };
  const chosen = selectedClips().filter((clip) => clip.after !== null);
  return chosen.length ? { clips: chosen.map((clip) => clip.id) } : {};
};

let asked = 0;

export async function makeRideDraft(rule = useRide.getState().rule) {
  const track = focused();
  if (!track) return;
  const draftOf = draftTarget();
  const now = ++asked;
  try {
    const draft = await api.rideDraft(track.id, { rule, ...draftOf });
    if (now === asked) useRide.setState({ draft, draftOf });
  } catch (error) {
    if (now === asked) complain(error);
  }
}

export async function acceptRideDraft() {
  const { rule, draftOf } = useRide.getState();
  asked++;
  if (await editRide((track, revision) => api.acceptRide(track, { revision, rule, ...draftOf }))) {
    tell(useSession.getState().header?.label ?? "Done");
  }
}

export function dropRideDraft() {
  asked++;
  useRide.setState({ draft: null });
}

export const draftOrAcceptRide = () => void (useRide.getState().draft ? acceptRideDraft() : makeRideDraft());

/** Another value of the rule: a draft that is shown follows. */
export function setRideRule(change: Partial<RideState["rule"]>) {
  const rule = { ...useRide.getState().rule, ...change };
  useRide.setState({ rule });
  if (useRide.getState().draft) void makeRideDraft(rule);
}

// --- spans

/** Have what the hand does drawn and heard at once; the compiled gain follows. */
export function holdLine(line: Line) {
  const { layers, lane, before } = useView.getState();
  hand.held = { at: line.map(([at]) => at), db: line.map(([, db]) => db) };
  engine.hold(before || !layers[lane] ? [] : line);
  redraw();
}

/** What is held is let go: with its ``work`` done it is in the compiled gain, and stays in the picture until then. */
export async function letGo(work?: Promise<unknown>) {
  const held = hand.held;
  if (!work) engine.hold([]);
  await work;
  if (hand.held === held) hand.held = { at: [], db: [] };
  redraw();
}

/** A span moved by some dB, with the ramps that the server will give it. */
export function liftLine(span: Span, by: number): Line {
  const ramp = useRide.getState().ride?.ramp ?? 0;
  return [
    [span.start - ramp, 0],
    [span.start, by],
    [span.end, by],
    [span.end + ramp, 0],
  ];
}

/** The working range for the points of the lane in hand, dB. */
export function handRange(): { low: number; high: number } {
  const track = focused();
  const offset = laneOffset();
  const low = track?.range_low ?? -20;
  return { low: low <= SILENT ? low : low - offset, high: (track?.range_high ?? 6) - offset };
}

export const SILENT = -120;

/** How far values may move together by ``by`` dB and stay within the working range. */
export function kept(by: number, values: number[]): number {
  const { low, high } = handRange();
  const down = Math.min(low - Math.min(...values), 0);
  const up = Math.max(high - Math.max(...values), 0);
  return Math.min(Math.max(by, down), up);
}

/** How far a span of the lane in hand may be lifted. */
export function keptLift(span: Span, by: number): number {
  const points = lanePoints();
  const inside = [valueAt(span.start), valueAt(span.end)];
  for (let i = firstPlace(points.length, (k) => points[k]!.at >= span.start); i < points.length; i++) {
    if (points[i]!.at > span.end) break;
    inside.push(points[i]!.db);
  }
  return kept(by, inside);
}

/** What the lane in hand does at a moment without its offset, from its compiled gain. */
function valueAt(seconds: number): number {
  const rate = focused()?.recording.sample_rate ?? 48000;
  const line = useCurve.getState()[useView.getState().lane];
  return line.at.length ? gainAt(line, seconds * rate) - laneOffset() : 0;
}

export function liftSpan(span: Span, by: number) {
  holdLine(liftLine(span, keptLift(span, by)));
  const done = editRide((track, revision, lane) =>
    api.lift(track, { revision, lane, start: span.start, end: span.end, by }),
  );
  void letGo(done);
  return done;
}

/**
 * Points as straight ways from one to the next, between two places: seconds and dB. A lane goes on at both of its ends;
 * what a clip owns goes on to its borders.
 */
export function straightLine(
  points: RidePoint[],
  from: number,
  to: number,
  hold = (point: RidePoint, _: number) => point,
): Line {
  const line: Line = [];
  for (let i = from; i <= to; i++) {
    const point = hold(points[i]!, i);
    if (i === 0 || points[i - 1]!.clip !== point.clip) line.push(...edge(point, "start"));
    line.push([point.at, point.db]);
    if (i === points.length - 1 || points[i + 1]!.clip !== point.clip) line.push(...edge(point, "end"));
  }
  return line;
}

/** How a lane goes on before its first or after its last point. */
function edge(point: RidePoint, side: "start" | "end"): Line {
  const clip = point.clip && focusedClips().find((c) => c.id === point.clip);
  const at = clip ? clip[side] : side === "start" ? Math.min(point.at, 0) - 1 : Math.max(point.at, duration()) + 1;
  if (!clip) return [[at, point.db]];
  return side === "start"
    ? [
        [at, 0],
        [at, point.db],
      ]
    : [
        [at, point.db],
        [at, 0],
      ];
}

/** The difference that moved points make. O(points between the first and the last of them). */
export function pointsLine(chosen: Set<number>, seconds: number, db: number): Line {
  const points = lanePoints();
  let [first, last] = [points.length, -1];
  for (const place of chosen) {
    first = Math.min(first, place);
    last = Math.max(last, place);
  }
  const [from, to] = [Math.max(first - 1, 0), Math.min(last + 1, points.length - 1)];
  const moved = (p: RidePoint, i: number) => (chosen.has(i) ? { ...p, at: p.at + seconds, db: p.db + db } : p);
  return difference(straightLine(points, from, to), straightLine(points, from, to, moved));
}

/** How far one line lies over another, wherever one of them has a point. */
export function difference(before: Line, after: Line): Line {
  const at = [...new Set([...before, ...after].map(([t]) => t))].sort((a, b) => a - b);
  const split = (line: Line) => ({ at: line.map(([t]) => t), db: line.map(([, v]) => v) });
  const [a, b] = [split(before), split(after)];
  return at.map((t) => [t, gainAt(b, t) - gainAt(a, t)]);
}

/** What a drawn line changes: it lies over what was there, and nothing outside of it. */
export function drawnLine(line: Line): Line {
  if (line.length < 2) return [];
  const [start, end] = [line[0]![0], line.at(-1)![0]];
  const drawn = { at: line.map(([at]) => at), db: line.map(([, db]) => db) };
  // the corners of what was there count as well
  const corners = lanePoints().flatMap((point) => (point.at > start && point.at < end ? [point.at] : []));
  const at = [...drawn.at, ...corners].sort((m, n) => m - n);
  const over = at.map((t): [number, number] => [t, gainAt(drawn, t) - valueAt(t) - laneOffset()]);
  return [[start, 0], ...over, [end, 0]];
}

/** Up and down: the selected points, else what is selected as a span. */
export function nudgeRide(by: number) {
  const { points } = useView.getState();
  if (points.size) return void movePoints([...points], 0, by);
  const span = selectedSpan();
  if (span) void liftSpan(span, by);
  else tell("Select a span first: drag across it, or click a phrase.");
}

/** Make the moves of the span, or of all, larger or smaller. */
export function scaleSpan(span: Span, factor: number, around?: number) {
  const { start, end } = span;
  void editRide((track, revision, lane) => api.scaleRange(track, { revision, lane, start, end, factor, around }));
}

/** Points at both ends of the selected phrases, of the span, or of every phrase; ``four``: and where the ramps begin. */
export function makeBorders(four: boolean) {
  const { span } = useView.getState();
  const chosen = selectedClips();
  const clips = (chosen.length ? chosen : focusedClips()).filter((clip) => clip.phrase_start !== null);
  const spans = span ? [span] : clips.map(phraseSpan);
  if (spans.length === 0) return;
  const pairs = spans.map(({ start, end }): [number, number] => [start, end]);
  void editRide((track, revision, lane) => api.makeBorders(track, { revision, lane, spans: pairs, four }));
}

/** Select the points of the lane in the span, or all of them. */
export function selectPointsInSpan() {
  const span = selectedSpan();
  const places = lanePoints().flatMap((point, place) =>
    !span || (point.at >= span.start - 1e-6 && point.at <= span.end + 1e-6) ? [place] : [],
  );
  if (places.length) selectPoints(places);
  else tell("There are no points here.");
}

export function changeSpan(what: "delete" | "smooth" | "thin") {
  const span = selectedSpan();
  const track = focused();
  if (!track) return;
  if (!span && what === "delete") return tell("Select points, or a span: drag across it.");
  const { start, end } = span ?? { start: 0, end: track.recording.duration };
  void editRide((id, revision, lane) => api.changeRange(id, { revision, lane, start, end, what }));
}

export const drawLine = (points: [number, number][]) =>
  editRide((track, revision, lane) => api.drawLine(track, { revision, lane, points }));

let copied: { track: string; lane: LaneName; start: number; end: number } | null = null;

/** Remember the selected span of the lane, to be put somewhere else. */
export function copySpan() {
  const span = selectedSpan();
  const track = focused();
  if (!span || !track) return tell("Select a span first: drag across it.");
  copied = { track: track.id, lane: useView.getState().lane, ...span };
  tell(
    `${(span.end - span.start).toFixed(1)} s of the ${LANE_NAMES[copied.lane]} are copied. Place the play line, here or in another track, then paste.`,
  );
}

/** Put what was copied at the play line. */
export function pasteSpan() {
  if (!copied) return tell("Nothing was copied yet: select a span and copy it.");
  const { track: from_track, lane: from_lane, start, end } = copied;
  const at = engine.seconds;
  void editRide((track, revision, lane) =>
    api.pasteRange(track, { revision, lane, at, start, end, from_track, from_lane }),
  );
}

// --- points

export const movePoints = (points: number[], seconds: number, by: number) =>
  editRide((track, revision, lane) => api.changePoints(track, { revision, lane, points, seconds, by }));

export const setPoints = (points: number[], change: { to?: number; shape?: "linear" | "smooth" | "hold" }) =>
  editRide((track, revision, lane) => api.changePoints(track, { revision, lane, points, ...change }));

export async function putPoint(at: number, db: number) {
  if (!(await editRide((track, revision, lane) => api.putPoint(track, { revision, lane, at, db })))) return;
  await refresh();
  const place = lanePoints().findIndex((point) => Math.abs(point.at - at) < 1e-5);
  if (place >= 0) selectPoints([place]);
}

/** Delete the selected points, or what lies in the selected span. */
export async function deleteDrawn() {
  const points = [...useView.getState().points];
  if (points.length === 0) return changeSpan("delete");
  if (await editRide((track, revision, lane) => api.changePoints(track, { revision, lane, points, gone: true })))
    selectPoints([]);
}

export const selectPoints = (points: Iterable<number>) =>
  useView.setState({ points: new Set(points), selection: new Set(), marks: new Set(), span: null });

/** Where a point lies now: with the offset of its lane, and with the hand that holds it. */
export function heldPoint(point: RidePoint, place: number): { at: number; db: number } {
  const lying = point.db + laneOffset();
  if (!hand.points.ids.has(place)) return { at: point.at, db: lying };
  return { at: point.at + hand.points.seconds, db: lying + hand.points.db };
}

// --- lanes as a whole

export const otherLane = () =>
  useView.setState((view) => ({
    lane: LANES[(LANES.indexOf(view.lane) + 1) % LANES.length]!,
    points: new Set<number>(),
  }));

export const clearLane = () => void editRide((track, revision, lane) => api.clearLane(track, revision, lane));

/** Let the trim of the whole track be heard while it is dragged. */
export function hearTrim(db: number) {
  const { layers, before } = useView.getState();
  const by = db - (useRide.getState().ride?.offset ?? 0);
  const isHeard = !before && layers.trim && !useRide.getState().ride?.off;
  engine.hold(isHeard ? steps([{ start: -1, end: duration() + 1 }], by) : []);
}

export const setTrim = (db: number) => editRide((track, revision) => api.trim(track, revision, { db }));
export const switchTrim = (on: boolean) => void editRide((track, revision) => api.trim(track, revision, { off: !on }));

/** Move what the lane in hand draws, in the span or everywhere, into another lane: what is heard stays. */
export function moveLane(lane: LaneName, to: LaneName) {
  const { span } = useView.getState();
  const body = { lane, to, span: span ? ([span.start, span.end] as [number, number]) : undefined };
  void editRide((track, revision) => api.moveLane(track, { revision, ...body }));
}

export const foldTrim = () =>
  void editRide((track, revision) => api.moveLane(track, { revision, lane: "trim", to: "ride" }));

export const setWorkingRange = (low: number, high: number) =>
  void editRide((track, revision) => api.workingRange(track, revision, low, high));

export async function bringCurveIn(file: File) {
  if (await editRide((track, revision, lane) => api.bringCurveIn(track, revision, lane, file)))
    tell(`“${file.name}” is the ${LANE_NAMES[useView.getState().lane]} now.`);
}

// --- the worklist

export interface StrayItem {
  id: string;
  clip: Clip;
  span: Span;
  deviation: number;
  /** What the draft that is shown would make of it, and why. */
  drafted: number | null;
  reason: string | null;
}

/** The spans that stray, furthest first, or by time. */
export function strayList(
  ride: Ride | null,
  draft: RideDraft | null,
  clips: Clip[],
  order: "worst" | "time",
): StrayItem[] {
  const byId = new Map(clips.map((clip) => [clip.id, clip]));
  const reasons = new Map(draft?.phrases.map((phrase) => [phrase.clip, phrase.reason]));
  const items = (ride?.strays ?? []).flatMap((stray, i) => {
    const clip = byId.get(stray.clip);
    if (!clip) return [];
    const span = { start: stray.start, end: stray.end };
    const reason = reasons.get(stray.clip) ?? null;
    return [
      {
        id: `${stray.clip}:${stray.start.toFixed(2)}`,
        clip,
        span,
        deviation: stray.deviation,
        drafted: draft?.strays[i] ?? null,
        reason,
      },
    ];
  });
  if (order === "time") return items;
  return items.sort((a, b) => Math.abs(b.deviation) - Math.abs(a.deviation) || a.span.start - b.span.start);
}

/** Whether the selected span is that of a stray. */
export const isSpan = (span: Span | null, other: Span) =>
  span !== null && Math.abs(span.start - other.start) < 1e-6 && Math.abs(span.end - other.end) < 1e-6;

/** Select a stray as a span, see it and hear it. */
export function goToStray(item: StrayItem, listen = true) {
  useView.setState({ span: item.span, selection: new Set(), marks: new Set(), points: new Set() });
  reveal(item.span);
  if (listen) playSelection();
  else seek(item.span.start);
}

export function stepRide(direction: 1 | -1) {
  const { order, span } = useView.getState();
  const { ride, draft } = useRide.getState();
  const items = strayList(ride, draft, focusedClips(), order);
  if (items.length === 0) return tell("Nothing strays inside the phrases.");
  const at = items.findIndex((item) => isSpan(span, item.span));
  const from = at < 0 ? (direction === 1 ? -1 : 0) : at;
  goToStray(items[(from + direction + items.length * 2) % items.length]!);
}
