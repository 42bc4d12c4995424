/**
 * The open session as it is shown: what the server said last, with every edit laid over it that is not answered yet (``edits``).
 */
import { create } from "zustand";
import type { Changed, Clip, Mark, MarkColumns, Terms, Track } from "../../api/client";
import { capital } from "../../parts/format";
import { type EdgeName, hand } from "../view/view";

export interface SessionModel {
  id: string;
  header: Omit<
    Changed,
    "clips" | "marks" | "mark_columns" | "clip_values" | "mark_values" | "removed" | "removed_marks" | "terms"
  > | null;
  /** Words of reasons, limits, and what comes by itself; told with a whole session. */
  terms: Terms | null;
  clips: Record<string, Clip[]>;
  marks: Record<string, Mark[]>;
}

export const useSession = create<SessionModel>(() => ({ id: "", header: null, terms: null, clips: {}, marks: {} }));

interface Placed {
  id: string;
  track: string;
  start: number;
}

/**
 * Put what an answer holds of one sort - clips or marks - into what is known by track: changed ones replace, removed ones
 * go, order is by time. Of a track that the answer holds whole, nothing old stays. Ids of marks say what and where they are,
 * so they are unique within a track only.
 */
export function merge<T extends Placed>(
  known: Record<string, T[]>,
  fresh: T[],
  removed: Record<string, string[]>,
  answer: Changed,
): Record<string, T[]> {
  const touched = new Set(fresh.map((item) => item.track));
  const merged: Record<string, T[]> = {};
  for (const { id } of answer.tracks) {
    const gone = new Set(removed[id]);
    const added = fresh.filter((item) => item.track === id);
    const old = answer.whole.includes(id) ? [] : (known[id] ?? []);
    if (!touched.has(id) && !answer.whole.includes(id) && !old.some((item) => gone.has(item.id))) {
      merged[id] = old;
      continue;
    }
    const changed = new Set(old.length ? added.map((item) => item.id) : []);
    const kept = old.filter((item) => !gone.has(item.id) && !changed.has(item.id));
    merged[id] = [...kept, ...added].sort((a, b) => a.start - b.start);
  }
  return merged;
}

type Columns = { ids: string } & Record<string, unknown>;

/** Switches out of a number that has a bit for each of their names. */
function putFlags(values: Record<string, unknown>, names: string[], flags: number) {
  for (const [bit, name] of names.entries()) values[name] = Boolean((flags >> bit) & 1);
}

/** One item's values out of columns: flags have a bit for each of their names, a reason is one of the reasons. */
function valuesAt(all: Columns, place: number): Record<string, unknown> {
  const values: Record<string, unknown> = {};
  for (const [name, column] of Object.entries(all)) {
    if (!Array.isArray(column) || name === "names" || name === "reasons") continue;
    if (name === "flags") putFlags(values, all.names as string[], column[place]);
    else values[name] = name === "reason" ? (all.reasons as string[])[column[place]] : column[place];
  }
  return values;
}

/** Ids that come in one text; one that begins with a full stop has the kind of the one before it. */
function idsIn(text: string): string[] {
  let kind = "";
  return text.split(" ").map((id) => {
    if (id.startsWith(".")) return kind + id;
    if (id.includes(".")) kind = id.slice(0, id.indexOf("."));
    return id;
  });
}

/** Marks of a track that come column by column. */
export function marksIn(track: string, { ids, numbers, flags, names, words, said }: MarkColumns): Mark[] {
  const held = said.holds!.map((words) => words.split(" ").filter(Boolean));
  const known = numbers as Record<string, number[]>;
  const bits = Object.fromEntries(names.map((name, bit) => [name, 1 << bit]));
  const word = (name: string, place: number) => said[name]![words[name]![place]!]!;
  // written out: thousands of objects of one shape are made in a fraction of the time
  return idsIn(ids).map((id, place) => {
    const flag = flags[place]!;
    return {
      id,
      track,
      kind: word("kind", place) as Mark["kind"],
      start: known.start![place]!,
      end: known.end![place]!,
      level: known.level![place]!,
      confidence: known.confidence![place]!,
      excess: numbers.excess![place]!,
      holds: held[words.holds![place]!]!,
      before: numbers.before![place]!,
      after: numbers.after![place]!,
      lisp: (flag & bits.lisp!) !== 0,
      on: (flag & bits.on!) !== 0,
      keep: word("keep", place),
      reason: word("reason", place),
      by_hand: (flag & bits.by_hand!) !== 0,
      made: (flag & bits.made!) !== 0,
      moved: (flag & bits.moved!) !== 0,
      depth: known.depth![place]!,
      dip_start: known.dip_start![place]!,
      dip_end: known.dip_end![place]!,
      ramp_in: known.ramp_in![place]!,
      ramp_out: known.ramp_out![place]!,
      notch: (flag & bits.notch!) !== 0,
    };
  });
}

/** Put values that come column by column into the items that they belong to; all others stay the very same objects. */
export function revalue<T extends Placed>(
  known: Record<string, T[]>,
  columns: Record<string, object>,
): Record<string, T[]> {
  const fresh = { ...known };
  for (const [track, given] of Object.entries(columns)) {
    const all = given as Columns;
    const places = new Map(idsIn(all.ids).map((id, place) => [id, place]));
    fresh[track] = (known[track] ?? []).map((item) => {
      const place = places.get(item.id);
      return place === undefined ? item : { ...item, ...valuesAt(all, place) };
    });
  }
  return fresh;
}

/** What is known of a session once the server has answered. */
export function received(old: SessionModel, answer: Changed): SessionModel {
  const { clips, marks, mark_columns, clip_values, mark_values, removed, removed_marks, terms, ...header } = answer;
  const many = Object.entries(mark_columns).flatMap(([track, columns]) => marksIn(track, columns));
  return {
    id: answer.id,
    header,
    terms: terms ?? old.terms,
    clips: revalue(merge(old.clips, clips, removed, answer), clip_values),
    marks: revalue(merge(old.marks, [...marks, ...many], removed_marks, answer), mark_values),
  };
}

/** The words for one of the reasons of a draft, as the program says them. */
export function reasonWords(of: "gain_reasons" | "mark_reasons" | "ride_reasons", reason: string): string {
  const words = useSession.getState().terms?.[of][reason] ?? reason;
  return capital(words);
}

export const trackOf = (model: SessionModel, id: string): Track | undefined =>
  model.header?.tracks.find((track) => track.id === id) ?? model.header?.tracks[0];

/** Clips of a phrase that counts: it has one and is not left out. */
export const isJudged = (clip: Clip) => clip.after !== null && !clip.left_out;

/** Gain of a clip with the hand's movement added while it is being dragged. */
export function heldGain(clip: Clip): number {
  const { ids, delta } = hand.drag;
  return delta !== 0 && ids.has(clip.id) && !clip.locked ? clip.gain + delta : clip.gain;
}

/** Depth of a dip with the hand's movement, or a rule that is being moved; never above 0. */
export function heldDepth(mark: Mark): number {
  const depth = hand.trial?.get(mark.id) ?? mark.depth;
  return hand.dips.ids.has(mark.id) ? Math.min(depth + hand.dips.delta, 0) : depth;
}

/** An edge of a mark or its dip with the hand's movement. */
export const heldEdge = (mark: Mark, name: EdgeName): number =>
  (hand.edge?.mark === mark.id ? hand.edge.values[name] : undefined) ?? mark[name];

/** How far a phrase is from the target and what was asked for of it; null without a phrase. */
export const offTarget = (clip: Clip, target: number): number | null =>
  clip.after === null ? null : clip.after - clip.wish - target;

/** The same with the hand's movement. */
export function deviation(clip: Clip, target: number): number | null {
  const off = offTarget(clip, target);
  return off === null ? null : off + (heldGain(clip) - clip.gain);
}

/** How far a phrase stands over the target, whatever was asked for of it: where it lies in the picture. */
export function standing(clip: Clip, target: number): number | null {
  const off = deviation(clip, target);
  return off === null ? null : off + clip.wish;
}

export const isLevel = (value: number, tolerance: number) => Math.abs(value) <= tolerance + 1e-9;

/** From where to where a slider of a setting goes, by its path in the rule. */
export function rangeOf(settings: Terms["settings"] | undefined, path: string): { low: number; high: number } {
  const { low, high } = settings?.[path] ?? { low: 0, high: 0 };
  return { low, high };
}
