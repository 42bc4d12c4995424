/**
 * Everything that can be done, once: keys, buttons, menus and the list of everything call these.
 */
import { api, type Clip, type Mark } from "../api/client";
import { complain, tell } from "../parts/messages";
import { engine, type Line } from "../sound/engine";
import { edit, isJudged, isLevel, trackOf, useSession } from "./session";
import { fitWindow, type Layer, redraw, type Span, select, useView } from "./view";

export const focused = () => trackOf(useSession.getState(), useView.getState().focus);
export const focusedClips = (): Clip[] => useSession.getState().clips[focused()?.id ?? ""] ?? [];
/** How long what is heard is, seconds. */
export const trackLength = () => focused()?.timeline.duration ?? 0;
/** How long the axis is: the track, or in the stage Survey all of them, with empty paper behind them to move clips to. */
export const duration = () => {
  if (useView.getState().stage !== "survey") return trackLength();
  const tracks = useSession.getState().header?.tracks ?? [];
  return Math.max(...tracks.map((track) => track.timeline.duration), 0) * 1.06 + 1;
};
export const selectedClips = () => focusedClips().filter((clip) => useView.getState().selection.has(clip.id));
export const focusedMarks = (): Mark[] => useSession.getState().marks[focused()?.id ?? ""] ?? [];
export const selectedMarks = () => focusedMarks().filter((mark) => useView.getState().marks.has(mark.id));
export const phraseSpan = (clip: Clip): Span => ({
  start: clip.phrase_start ?? clip.start,
  end: clip.phrase_end ?? clip.end,
});

/** What is selected as a span of time: a span drawn by hand, or from the first selected phrase or mark to the last. */
export function selectedSpan(): Span | null {
  const { span } = useView.getState();
  if (span) return span;
  const marks = selectedMarks();
  const spans: Span[] = marks.length ? marks : selectedClips().map(phraseSpan);
  if (spans.length === 0) return null;
  return { start: Math.min(...spans.map((s) => s.start)), end: Math.max(...spans.map((s) => s.end)) };
}

// --- listening

export function play(from: number, to = trackLength(), loop = false) {
  afterwards = null;
  useView.setState({ playing: true });
  void engine.play(from, to, loop);
}

/** What is to be played when what is playing has come to its end. */
let afterwards: (() => void) | null = null;

export function stop() {
  afterwards = null;
  engine.stop();
}

/** Called by the engine when playing has ended, by itself or by hand. */
export function onStopped() {
  useView.setState({ playing: false });
  const next = afterwards;
  afterwards = null;
  next?.();
}

/** Play a span; twice, first as it was recorded and then with its gain, if that is asked for. */
export function playSpan(span: Span, twice: boolean) {
  afterwards = null;
  if (!twice) return play(span.start, span.end);
  setBefore(true);
  play(span.start, span.end);
  afterwards = () => {
    setBefore(false);
    play(span.start, span.end);
  };
}

export function playOrStop() {
  if (useView.getState().playing) return stop();
  const span = selectedSpan();
  if (useView.getState().loop && span) return play(span.start, span.end, true);
  const at = engine.seconds;
  play(at >= trackLength() - 0.01 ? 0 : at);
}

/** The selection with a second around it; only the selection, again and again, while looping is on. */
export function playSelection() {
  const span = selectedSpan();
  if (!span) return playOrStop();
  if (useView.getState().loop) return play(span.start, span.end, true);
  const { stage, twice } = useView.getState();
  const around = { start: Math.max(0, span.start - 1), end: Math.min(trackLength(), span.end + 1) };
  playSpan(around, twice && stage === "details");
}

export function setLoop(loop: boolean) {
  useView.setState({ loop });
  if (!engine.playing) return;
  const span = selectedSpan();
  if (loop && span) play(span.start, span.end, true);
  else if (!loop) play(engine.seconds);
}

export function seek(seconds: number) {
  engine.seek(Math.min(Math.max(seconds, 0), duration()));
  redraw();
}

export const setBefore = (before: boolean) => useView.setState({ before });
export const setLayer = (layer: Layer, on: boolean) =>
  useView.setState((view) => ({ layers: { ...view.layers, [layer]: on } }));

// --- looking

export function show(span: Span, margin = 0.25) {
  const pad = (span.end - span.start) * margin;
  useView.setState({ window: fitWindow(span.start - pad, span.end + pad, duration()) });
  redraw();
}

export function fitSelection() {
  const span = selectedSpan();
  if (span) show(span);
  else fitAll();
}

export const fitAll = () => show({ start: 0, end: duration() }, 0);

/** Bring a span into the window without changing the zoom, if it is not in it. */
export function reveal(span: Span) {
  const { window } = useView.getState();
  if (span.start >= window.start && span.end <= window.end) return;
  const length = Math.max(window.end - window.start, (span.end - span.start) * 1.4);
  const middle = (span.start + span.end) / 2;
  useView.setState({ window: fitWindow(middle - length / 2, middle + length / 2, duration()) });
  redraw();
}

// --- the worklist

export interface WorkItem {
  clip: Clip;
  number: number;
  deviation: number;
  level: boolean;
}

/** The phrases of the track in focus in the order of the worklist. What is off comes first, worst first; or by time. */
export function worklist(clips: Clip[], target: number, tolerance: number, order: "worst" | "time"): WorkItem[] {
  const items: WorkItem[] = [];
  let number = 0;
  for (const clip of clips) {
    if (clip.after === null) continue;
    number++;
    const off = clip.after - target;
    items.push({ clip, number, deviation: off, level: isLevel(off, tolerance) });
  }
  if (order === "time") return items;
  const rank = (item: WorkItem) => (item.clip.left_out ? 1e6 : 0) - Math.abs(item.deviation);
  return items.sort((a, b) => rank(a) - rank(b) || a.clip.start - b.clip.start);
}

/** Go to the next or previous phrase of the worklist, or the next that is off; play it and wait for the hand. */
export function step(direction: 1 | -1, onlyOff: boolean) {
  const { header } = useSession.getState();
  const track = focused();
  if (!header || !track) return;
  const { order, selection } = useView.getState();
  const items = worklist(focusedClips(), track.target, header.rule.tolerance, order);
  if (items.length === 0) return;
  const at = items.findIndex((item) => selection.has(item.clip.id));
  for (let i = 1; i <= items.length; i++) {
    const start = at < 0 ? (direction === 1 ? -1 : 0) : at;
    const item = items[(start + direction * i + items.length * 2) % items.length]!;
    if (onlyOff && (item.level || item.clip.left_out)) continue;
    return goTo(item.clip);
  }
  tell("Every phrase is level.");
}

export function goTo(clip: Clip) {
  select([clip.id]);
  reveal(phraseSpan(clip));
  playSelection();
}

// --- gain and flags

const needSelection = () => {
  const clips = selectedClips();
  if (clips.length === 0) tell("Select a phrase first: click it, or press . for the next in the worklist.");
  return clips;
};

export async function changeGain(ids: string[], change: { by?: number; to?: number }) {
  const track = focused();
  if (!track || ids.length === 0) return false;
  useView.setState({ draft: null });
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
  const on = !clips.every((clip) => clip[flag]);
  const ids = clips.map((clip) => clip.id);
  void edit((revision) => api.flag(track.id, revision, ids, flag, on));
}

export function cutHere() {
  const track = focused();
  if (track) void edit((revision) => api.cut(track.id, revision, engine.seconds));
}

export async function joinSelected() {
  const track = focused();
  const clips = needSelection();
  if (!track || clips.length === 0) return;
  if (
    await edit((revision) =>
      api.join(
        track.id,
        revision,
        clips.map((c) => c.id),
      ),
    )
  )
    select([clips[0]!.id]);
}

export function moveBorder(clip: string, at: number) {
  const track = focused();
  return track ? edit((revision) => api.border(track.id, revision, clip, at)) : Promise.resolve(false);
}

export function setFader(db: number): Promise<boolean> {
  const track = focused();
  return track ? edit((revision) => api.changeTrack(track.id, revision, { fader: db })) : Promise.resolve(false);
}

// --- drafts

/** The selection if it holds phrases, else everything. */
function draftTarget(): string[] | undefined {
  const chosen = selectedClips().filter((clip) => clip.after !== null);
  return chosen.length ? chosen.map((clip) => clip.id) : undefined;
}

export async function makeDraft(all = false) {
  const track = focused();
  if (!track) return;
  const draftOf = all ? undefined : draftTarget();
  try {
    const draft = await api.draft(track.id, draftOf, undefined, useView.getState().peaks);
    useView.setState({ draft, draftOf });
    redraw();
  } catch (error) {
    complain(error);
  }
}

export async function acceptDraft() {
  const track = focused();
  const { draft, draftOf, peaks } = useView.getState();
  if (!track || !draft) return;
  if (await edit((revision) => api.acceptDraft(track.id, revision, draftOf, peaks))) {
    useView.setState({ draft: null, peaks: false });
    tell(useSession.getState().header?.label ?? "Done");
  }
}

/** Find the phrases of the track in focus anew, none longer than the rule says. */
export async function findPhrases() {
  const track = focused();
  if (!track) return;
  if (await edit((revision) => api.findPhrases(track.id, revision))) {
    useView.setState({ draft: null, peaks: false, selection: new Set() });
    tell(useSession.getState().header?.label ?? "Done");
  }
}

export function dropDraft() {
  useView.setState({ draft: null });
  redraw();
}

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
