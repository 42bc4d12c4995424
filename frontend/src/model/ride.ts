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
import { engine } from "../sound/engine";
import { focused, focusedClips, goTo, selectedClips, selectedSpan } from "./actions";
import { edit, useSession } from "./session";
import { hand, redraw, useView } from "./view";

interface RideState {
  track: string;
  ride: Ride | null;
  draft: RideDraft | null;
  draftOf: string[] | undefined;
  rule: Required<{ [name in keyof RideRule]: number }>;
}

export const useRide = create<RideState>(() => ({
  track: "",
  ride: null,
  draft: null,
  draftOf: undefined,
  rule: { strength: 100, most_up: 6, most_down: 9 },
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
  if (!done) engine.hold([], 0);
  return done;
}

// --- drafts

const draftTarget = () => {
  const chosen = selectedClips().filter((clip) => clip.after !== null);
  return chosen.length ? chosen.map((clip) => clip.id) : undefined;
};

let asked = 0;

export async function makeRideDraft(rule = useRide.getState().rule) {
  const track = focused();
  if (!track) return;
  const draftOf = draftTarget();
  const now = ++asked;
  try {
    const draft = await api.rideDraft(track.id, rule, draftOf);
    if (now === asked) useRide.setState({ draft, draftOf });
  } catch (error) {
    if (now === asked) complain(error);
  }
}

export async function acceptRideDraft() {
  const { rule, draftOf } = useRide.getState();
  asked++;
  if (await editRide((track, revision) => api.acceptRide(track, revision, rule, draftOf))) {
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

/** Let a lift be heard at once; the compiled gain follows. */
export function hearLift(span: { start: number; end: number }, by: number) {
  const { layers, lane, before } = useView.getState();
  engine.hold(by === 0 || before || !layers[lane] ? [] : [span], by);
}

export function liftSpan(span: { start: number; end: number }, by: number) {
  hearLift(span, by);
  return editRide((track, revision, lane) => api.lift(track, { revision, lane, start: span.start, end: span.end, by }));
}

/** Up and down: the selected points, else what is selected as a span. */
export function nudgeRide(by: number) {
  const { points } = useView.getState();
  if (points.size) return void movePoints([...points], 0, by);
  const span = selectedSpan();
  if (span) void liftSpan(span, by);
  else tell("Select a span first: drag across it, or click a phrase.");
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
  tell(`${(span.end - span.start).toFixed(1)} s of the ${copied.lane} are copied. Place the play line, then paste.`);
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
  useView.setState((view) => ({ lane: view.lane === "ride" ? "trim" : "ride", points: new Set<number>() }));

export const clearLane = () => void editRide((track, revision, lane) => api.clearLane(track, revision, lane));
export const setTrim = (db: number) => editRide((track, revision) => api.trim(track, revision, db));
export const foldTrim = () => void editRide((track, revision) => api.fold(track, revision));

export async function bringCurveIn(file: File) {
  if (await editRide((track, revision, lane) => api.bringCurveIn(track, revision, lane, file)))
    tell(`“${file.name}” is the ${useView.getState().lane} now.`);
}

// --- the worklist

export interface RideItem {
  clip: Clip;
  before: number;
  after: number;
}

/** The phrases by how much still goes on inside them, or by time. */
export function rideList(ride: Ride | null, clips: Clip[], order: "worst" | "time"): RideItem[] {
  const byId = new Map(clips.map((clip) => [clip.id, clip]));
  const items = (ride?.phrases ?? []).flatMap(({ clip, before, after }) => {
    const known = byId.get(clip);
    return known ? [{ clip: known, before, after }] : [];
  });
  return order === "time" ? items : items.sort((a, b) => b.after - a.after || a.clip.start - b.clip.start);
}

export function stepRide(direction: 1 | -1) {
  const { order, selection } = useView.getState();
  const items = rideList(useRide.getState().ride, focusedClips(), order);
  if (items.length === 0) return;
  const at = items.findIndex((item) => selection.has(item.clip.id));
  const from = at < 0 ? (direction === 1 ? -1 : 0) : at;
  goTo(items[(from + direction + items.length * 2) % items.length]!.clip);
}
