/** What the server tells of the track in focus besides its clips: compiled gain, meter, trace. Each by what it is of. */
import { api, type LaneName, type Track } from "../../api/client";
import type { Answered, Drawn } from "../../api/packed";
import { complain } from "../../parts/messages";
import { isOvertaken } from "../../parts/problem";
import { firstPlace } from "../../parts/search";
import { engine } from "../../sound/engine";
import type { GainPoints } from "../../sound/worklet";
import { Asked } from "../server/asked";
import { forgetGains, gainCame, gainOf, gainStands, hasGain } from "../server/ear";
import { edited } from "../server/edits";
import { focused } from "../server/focus";
import { leaderOf } from "../server/following";
import { useSession } from "../server/session";
import { ALL_LAYERS, heardLayers, redraw, useView } from "../view/view";
import { playTracks, tellEngine } from "./mix";

/** The gain of one state: the sum of the layers that are on, the dips alone whether they are on or not, and each drawn lane. */
export interface Heard extends Record<LaneName, GainPoints> {
  points: GainPoints;
  dips: GainPoints;
  /** From and to which sample each clip's gain gives way to that of the next, pairs. */
  ways: Float64Array;
  drawn: Drawn | null;
  /** Short-term level before and after, pairs, on the scale of the target. */
  meter: Float32Array;
}

const EMPTY = { at: new Float64Array(0), db: new Float64Array(0) };
export const NOTHING: Heard = {
  points: EMPTY,
  dips: EMPTY,
  ways: new Float64Array(0),
  curve: EMPTY,
  ride: EMPTY,
  trim: EMPTY,
  meter: new Float32Array(0),
  drawn: null,
};

export function toPoints(pairs: Float64Array): GainPoints {
  const count = pairs.length / 2;
  const points = { at: new Float64Array(count), db: new Float64Array(count) };
  for (let i = 0; i < count; i++) {
    points.at[i] = pairs[2 * i]!;
    points.db[i] = pairs[2 * i + 1]!;
  }
  return points;
}

/** Gain of the compiled curve at a sample position; linear in dB between points. */
export function gainAt(points: { at: ArrayLike<number>; db: ArrayLike<number> }, position: number): number {
  const { at, db } = points;
  if (at.length === 0) return 0;
  const low = firstPlace(at.length, (i) => at[i]! > position);
  if (low === 0) return db[0]!;
  if (low === at.length) return db[low - 1]!;
  const share = (position - at[low - 1]!) / (at[low]! - at[low - 1]!);
  return db[low - 1]! + share * (db[low]! - db[low - 1]!);
}

const layersOn = () => heardLayers({ before: false, layers: useView.getState().layers }).join();

/** The track in focus, if its sound is there. */
function playable(): Track | null {
  const track = focused();
  return track && !track.timeline.missing ? track : null;
}

export const heardOfTrack = new Asked<Heard>("heard", () => {
  const track = playable();
  if (!track) return null;
  const on = layersOn();
  const isDrawn = useView.getState().stage === "ride";
  const ask = (signal: AbortSignal) => api.heard(track.id, track.gain_key, on, isDrawn, signal).then(unpacked);
  // passes come and go while the gain stays
  const drawn = isDrawn ? `${useSession.getState().header?.revision}:${looks}` : "";
  return { of: track.id, key: `${track.gain_key}:${on}:${drawn}`, ask };
});

let looks = 0;

/** Ask again for what is drawn: there is more of it, though nothing of the session is another. */
export function lookAgain() {
  looks++;
  heardOfTrack.follow();
}

/** What is drawn on the track in focus, while the stage Ride is open: its lanes and passes. */
export const drawn = (): Drawn | null => (useView.getState().stage === "ride" ? heard().drawn : null);
/** Whether what is known is of the state that is shown. */
export const isHeardSettled = () => heardOfTrack.isSettled;

function unpacked({ gains: [points, dips, curve, ride, trim, ways], ...rest }: Answered): Heard {
  return {
    points: toPoints(points!),
    dips: toPoints(dips!),
    curve: toPoints(curve!),
    ride: toPoints(ride!),
    trim: toPoints(trim!),
    ways: ways!,
    ...rest,
  };
}

/** The gain of the track in focus as it was told last. */
export const heard = (): Heard => heardOfTrack.answer ?? NOTHING;
/** The same, null where nothing has come of a track yet. */
export const heardOf = (track: Track | undefined): Heard | null =>
  track && track === playable() ? heardOfTrack.answer : null;
export const useHeard = (): Heard => heardOfTrack.useAnswer() ?? NOTHING;
export const onHeard = heardOfTrack.subscribe;
/** Resolves when the compiled gain of the newest state is here. */
export const gainSettled = () => heardOfTrack.settled();

const traceOfTrack = new Asked<Float32Array>("trace", () => {
  const track = playable();
  const rule = useSession.getState().header?.rule;
  if (!track || !rule) return null;
  const key = `${rule.unit}:${rule.mono_as_two}:${track.timeline.key}`;
  return { of: track.id, key, ask: (signal) => api.trace(track.id, signal) };
});
const onsetsOfTrack = new Asked<Float64Array>("onsets", () => {
  const track = playable();
  const { key } = track?.timeline ?? { key: "" };
  return track && { of: track.id, key, ask: (signal) => api.onsets(track.id, key, signal) };
});

const NO_TRACE = new Float32Array(0);
const NO_ONSETS = new Float64Array(0);
export const trace = () => traceOfTrack.answer ?? NO_TRACE;
/** Where sound sets in on the track in focus, seconds. */
export const onsets = () => onsetsOfTrack.answer ?? NO_ONSETS;

onHeard(() => {
  const track = playable();
  const { answer, isSettled, hasFailed } = heardOfTrack;
  const { header } = useSession.getState();
  if (!track || !answer || !isSettled || hasFailed || !header || hasGain(track, layersOn())) return;
  gainCame(track, layersOn(), answer.points, header.revision);
});

const ALL = Object.keys(ALL_LAYERS);
let isAsking = false;

/** Have the gain of the tracks that are not in focus, of each that is another now: all of its layers are heard. */
async function loadOthers() {
  if (isAsking) return;
  isAsking = true;
  // what is looked at comes first
  await gainSettled();
  let failed = "";
  for (;;) {
    const { header } = useSession.getState();
    const track = header?.tracks.find((one) => isWanted(one) && failed !== `${one.id} ${header.revision}`);
    if (!track) break;
    try {
      const points =
        ofLeader(track, header!.tracks) ?? toPoints(await api.gainPoints(track.id, ALL, { key: track.gain_key }));
      if (isOther(track)) gainCame(track, ALL.join(), points, useSession.getState().header!.revision);
    } catch (error) {
      if (!isOvertaken(error)) complain(error);
      // what has overtaken it tells the new key; of the same state it is not asked for again
      failed = `${track.id} ${header!.revision}`;
      await edited();
    }
  }
  isAsking = false;
}

/** The gain of a track that follows another where it is that one's, which is known: it need not be asked for. */
function ofLeader(track: Track, tracks: Track[]): GainPoints | null {
  const leader = leaderOf(tracks, track);
  if (!leader || track.lanes.includes("trim") || track.trim.offset !== 0) return null;
  const [{ timeline: own }, { timeline: theirs }] = [track, leader];
  if (own.sample_rate !== theirs.sample_rate || own.duration > theirs.duration) return null;
  return gainOf(leader, ALL.join());
}

/** Whether a track is there, is not in focus, and is still what it was. */
function isOther({ id, gain_key }: Track): boolean {
  const now = useSession.getState().header?.tracks.find((one) => one.id === id);
  return now?.gain_key === gain_key && focused()?.id !== id;
}

/** Whether the gain of a track is to be had. */
const isWanted = (track: Track) => isOther(track) && !track.timeline.missing && !hasGain(track, ALL.join());

/** The session is left: nothing of it is played or fetched any more. */
export function leaveSound() {
  engine.leave();
  for (const asked of [heardOfTrack, traceOfTrack, onsetsOfTrack]) asked.forget();
  forgetGains();
}

useSession.subscribe((now, old) => {
  const { header } = now;
  if (header === old.header) return;
  playTracks();
  for (const track of header?.tracks ?? []) gainStands(track, header!.revision);
  void loadOthers();
});
useView.subscribe((now, old) => {
  if (now.focus !== old.focus) void loadOthers();
  tellEngine();
});
useSession.subscribe(redraw);
useView.subscribe(redraw);
