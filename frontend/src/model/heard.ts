/** What the server tells of the track in focus besides its clips: compiled gain, trace, meter. Fetched anew when it changes. */
import { create } from "zustand";
import { api, type LaneName, type Track } from "../api/client";
import { complain } from "../parts/messages";
import { isOvertaken } from "../parts/problem";
import { firstPlace } from "../parts/search";
import { engine } from "../sound/engine";
import type { GainPoints } from "../sound/worklet";
import { focused } from "./focus";
import { playTracks, tellEngine } from "./mix";
import { newest, takeBack } from "./newest";
import { useSession } from "./session";
import { ALL_LAYERS, heardLayers, LANES, type Layer, redraw, useView } from "./view";

interface HeardState {
  track: string;
  /** The sum of the layers that are on, and the dips alone whether they are on or not. */
  points: GainPoints;
  dips: GainPoints;
  /** The drawn lanes alone. */
  curve: GainPoints;
  ride: GainPoints;
  trim: GainPoints;
  trace: Float32Array;
  meter: Float32Array;
  /** Where sound sets in on the track, seconds. */
  onsets: Float64Array;
}

const EMPTY = { at: new Float64Array(0), db: new Float64Array(0) };
/** What is heard of a track of which nothing has come yet. */
const nothingOf = (track: string): HeardState => ({
  track,
  points: EMPTY,
  dips: EMPTY,
  curve: EMPTY,
  ride: EMPTY,
  trim: EMPTY,
  trace: new Float32Array(0),
  meter: new Float32Array(0),
  onsets: new Float64Array(0),
});
export const useHeard = create<HeardState>(() => nothingOf(""));

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

const HEARD = "heard";
let loaded = "";
let traced = "";

let drawn: Promise<void> = Promise.resolve();

/** Resolves when the compiled gain of the newest state is here, as far as it was asked for. */
export const gainSettled = () => drawn;

async function refresh() {
  const track = focused();
  const header = useSession.getState().header;
  if (!track || !header) return;
  if (track.timeline.missing) {
    playTracks();
    void loadOthers();
    return;
  }
  const { layers } = useView.getState();
  const on = heardLayers({ before: false, layers });
  const key = `${track.id}@${header.revision}:${on.join()}`;
  const traceKey = `${track.id}:${header.rule.unit}:${header.rule.mono_as_two}:${track.timeline.key}`;
  if (key === loaded) return;
  loaded = key;
  if (useHeard.getState().track !== track.id) {
    useHeard.setState(nothingOf(track.id));
    traced = "";
  }
  playTracks();
  try {
    // the gain first: it is what is heard
    const gain = loadGain(track, on);
    drawn = gain.then(
      () => {},
      () => {},
    );
    const isNewest = await gain;
    void loadOthers();
    if (!isNewest) return;
    if (traced !== traceKey) {
      const trace = await newest(HEARD, () => api.trace(track.id));
      if (!trace) return;
      useHeard.setState({ trace });
      const onsets = await newest(HEARD, () => api.onsets(track.id, track.timeline.key));
      if (!onsets) return;
      useHeard.setState({ onsets });
      traced = traceKey;
    }
    const meter = await newest(HEARD, () => api.meter(track.id, on));
    if (meter) useHeard.setState({ meter });
  } catch (error) {
    loaded = "";
    if (!isOvertaken(error)) complain(error);
  }
}

/** What the gain that the engine has of each track was made of. */
const gains = new Map<string, string>();

/** Have the gain of the tracks that are not in focus, of each that is another now: all of its layers are heard. */
async function loadOthers() {
  const header = useSession.getState().header;
  const focus = focused()?.id;
  for (const track of header?.tracks ?? []) {
    const key = `${track.gain_key}:all`;
    if (track.id === focus || track.timeline.missing || gains.get(track.id) === key) continue;
    gains.set(track.id, key);
    try {
      const points = toPoints(await api.gainPoints(track.id, Object.keys(ALL_LAYERS)));
      if (gains.get(track.id) === key) engine.setGain(track, points);
    } catch (error) {
      gains.delete(track.id);
      if (!isOvertaken(error)) complain(error);
      return;
    }
  }
}

/** Hear the track in focus again, after something else was. */
export function hearAgain() {
  loaded = "";
  void refresh();
}

/** The session is left: nothing of it is played or fetched any more. */
export function leaveSound() {
  engine.leave();
  takeBack(HEARD);
  loaded = "";
  gains.clear();
}

/** Have the compiled gain of a track, all of it and then each lane; false where that was overtaken. */
async function loadGain(track: Track, on: Layer[]): Promise<boolean> {
  const points = await newest(HEARD, async () => toPoints(await api.gainPoints(track.id, on)));
  if (!points) return false;
  engine.setGain(track, points);
  gains.set(track.id, `${track.gain_key}:${on.join()}`);
  const alone = async (layer: Layer) => toPoints(await api.gainPoints(track.id, [layer]));
  const lane = async (name: LaneName) => (track.lanes.includes(name) ? alone(name) : EMPTY);
  const lanes = await newest(HEARD, () => Promise.all([alone("dips"), ...LANES.map(lane)]));
  if (!lanes) return false;
  const [dips, curve, ride, trim] = lanes;
  useHeard.setState({ points, dips, curve, ride, trim });
  return true;
}

useSession.subscribe(() => void refresh());
useView.subscribe((now, old) => {
  // what is heard follows the switches, whoever moved them
  if (now.focus !== old.focus || now.layers !== old.layers) void refresh();
  tellEngine();
});
useHeard.subscribe(redraw);
useSession.subscribe(redraw);
useView.subscribe(redraw);
