/** What edits make of what is shown until they are answered. The server has the last word; this is what was meant. */
import type { Clip, Mark, Track } from "../../api/client";
import { SILENCE } from "../view/view";
import type { SessionModel } from "./session";

export type Over = (shown: SessionModel) => Partial<SessionModel>;

function changed<T extends { id: string }>(items: T[], ids: Set<string>, change: (item: T) => Partial<T>): T[] {
  return items.map((item) => (ids.has(item.id) ? { ...item, ...change(item) } : item));
}

export const overClips =
  (track: string, ids: Iterable<string>, change: (clip: Clip) => Partial<Clip>): Over =>
  ({ clips }) => ({ clips: { ...clips, [track]: changed(clips[track] ?? [], new Set(ids), change) } });

export const overMarks =
  (track: string, ids: Iterable<string>, change: (mark: Mark) => Partial<Mark>): Over =>
  ({ marks }) => ({ marks: { ...marks, [track]: changed(marks[track] ?? [], new Set(ids), change) } });

export const overTrack =
  (id: string, change: (track: Track) => Partial<Track>): Over =>
  ({ header }) => ({ header: header && { ...header, tracks: changed(header.tracks, new Set([id]), change) } });

const [LOWEST, HIGHEST] = [-60, 24];
/** A clip gain as the server takes it: within its range, to a hundredth of a dB. */
const limited = (gain: number) => Math.round(Math.min(Math.max(gain, LOWEST), HIGHEST) * 100) / 100;

/** The gain that a clip will have. */
export const gainOf = (clip: Clip, { by = 0, to }: { by?: number; to?: number }) =>
  clip.locked ? clip.gain : limited(to ?? clip.gain + by);

/** A clip with another gain. */
export const withGain = (clip: Clip, gain: number): Partial<Clip> => ({
  gain,
  after: clip.after === null ? null : clip.after + gain - clip.gain,
});

/** What is heard of a dip, dB. */
export const heardDepth = ({ on, depth }: Pick<Mark, "on" | "depth">) => (on ? Math.min(depth, 0) : 0);

/** How a dip is made deeper: by so many dB, to so many, or until nothing is left. */
export interface DepthChange {
  by?: number;
  to?: number;
  silent?: true;
}

/** A mark whose dip is moved, or set: it is on from then on. */
export function withDepth(mark: Mark, { by, to, silent }: DepthChange): Partial<Mark> {
  if (silent) return { on: true, keep: "in", depth: SILENCE, after: null };
  // the first step down takes what the rule proposes
  const first = by !== undefined && by < 0 && !mark.on && mark.depth < 0;
  const depth = first ? mark.depth : Math.min(by === undefined ? to! : heardDepth(mark) + by, 0);
  const after = mark.after === null ? null : mark.after + depth - heardDepth(mark);
  return { on: true, keep: "in", depth, after };
}
