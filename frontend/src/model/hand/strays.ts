/** The worklist of the stage Ride: the spans inside phrases that stray from their phrase. */
import type { Clip, Inside, RideDraft } from "../../api/client";
import { tell } from "../../parts/messages";
import { playSelection, seek } from "../heard/listening";
import { reveal } from "../heard/looking";
import { focusedClips } from "../server/focus";
import { type Span, useView } from "../view/view";
import { inside, useRide } from "./rideState";

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
  inside: Inside | null,
  draft: RideDraft | null,
  clips: Clip[],
  order: "worst" | "time",
): StrayItem[] {
  const byId = new Map(clips.map((clip) => [clip.id, clip]));
  // a draft of another state than the one that is listed says nothing of it
  const drafted = draft?.strays.length === inside?.strays.length ? draft?.strays : undefined;
  const reasons = new Map(draft?.phrases.map((phrase) => [phrase.clip, phrase.reason]));
  const items = (inside?.strays ?? []).flatMap((stray, i) => {
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
        drafted: drafted?.[i] ?? null,
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
  const items = strayList(inside(), useRide.getState().draft, focusedClips(), order);
  if (items.length === 0) return tell("Nothing strays inside the phrases.");
  const at = items.findIndex((item) => isSpan(span, item.span));
  const from = at < 0 ? (direction === 1 ? -1 : 0) : at;
  goToStray(items[(from + direction + items.length * 2) % items.length]!);
}
