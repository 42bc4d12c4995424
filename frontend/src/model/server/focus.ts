/** The track in focus and what of it is selected. */
import type { Clip, Mark } from "../../api/client";
import { type Span, useView } from "../view/view";
import { trackOf, useSession } from "./session";

// as soon as there is a track one is in focus, by its id: another that comes in before it does not take its place, and where it
// is taken away the focus goes to one that is there
useSession.subscribe((now) => {
  const { focus } = useView.getState();
  const id = trackOf(now, focus)?.id;
  if (id && id !== focus) useView.setState({ focus: id });
});

/** The track in focus. */
export const focused = () => trackOf(useSession.getState(), useView.getState().focus);
/** Take another track in hand, with nothing selected on it. */
export const lookAt = (track: string) => useView.setState({ focus: track, selection: new Set(), span: null });

export const focusedClips = (): Clip[] => useSession.getState().clips[focused()?.id ?? ""] ?? [];
/** How long what is heard is, seconds. */
const trackLength = () => focused()?.timeline.duration ?? 0;
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
