/** The track in focus and what of it is selected. */
import type { Clip, Mark } from "../api/client";
import { trackOf, useSession } from "./session";
import { type Span, useView } from "./view";

// a track that comes in before the one on view does not take its place: tracks stand in the order of their files
useSession.subscribe((now, old) => {
  const { focus } = useView.getState();
  const shown = trackOf(old, focus)?.id;
  if (now.id !== old.id || !shown || shown === trackOf(now, focus)?.id) return;
  if (now.header?.tracks.some((track) => track.id === shown)) useView.setState({ focus: shown });
});

/** The track in focus. */
export const focused = () => trackOf(useSession.getState(), useView.getState().focus);
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
