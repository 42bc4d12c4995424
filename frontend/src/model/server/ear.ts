/**
 * What is heard while the server has not answered yet:
 *
 *     gain heard = compiled gain of key K  +  lines of all edits newer than K  +  the hand's line
 *
 * The compiled gain of a key and the going of the lines that are in it reach the audio thread in one message, so nothing is ever
 * heard twice or not at all.
 */
import type { Track } from "../../api/client";
import { engine } from "../../sound/engine";
import { type Line, total } from "../../sound/lines";
import type { GainPoints } from "../../sound/worklet";
import { type Layer, redraw, useView } from "../view/view";
import { useSession } from "./session";

/** Something that is heard over the compiled gain of a track, as part of one of its layers. */
export interface Over {
  track: string;
  layer: Layer;
  line: Line;
}

/** An edit that is not in the compiled gain yet: once it is answered, the revision that has it. */
export interface Newer extends Over {
  revision: number | null;
  /** The same as those who follow its track hear it. */
  led: Newer[];
}

let newer: Newer[] = [];
let hand: Over[] = [];
let laid: Over[] = [];
/** The gain that is heard of each track: of which key, and of which layers. */
const gains = new Map<string, { track: Track; layers: string; points: GainPoints }>();

/** A track that is heard with another of its takes. */
let instead: Track | null = null;

const meant = (): Over[] => [...newer, ...hand];
const all = (): Over[] => [...meant(), ...laid];

/** What those hear of it who follow its track: their own trim is none of it. */
const ledBy = (over: Over): Over[] =>
  (useSession.getState().header?.tracks ?? [])
    .filter((one) => one.follows === over.track)
    .map(({ id }) => ({ ...over, track: id, layer: over.layer === "trim" ? "ride" : over.layer }));
const withLed = (over: Over | null): Over[] => (over?.line.length ? [over, ...ledBy(over)] : []);

/** What lies over the compiled gain of a track, of the layers that are on. */
export function heardOver(track: string): Line {
  const { layers } = useView.getState();
  return total(all().flatMap((one) => (one.track === track && layers[one.layer] ? [one.line] : [])));
}

/** What the hand and edits that were not answered make of a layer of a track, over what is compiled of it. */
export const overLayer = (track: string, layer: Layer): Line =>
  total(meant().flatMap((one) => (one.track === track && one.layer === layer ? [one.line] : [])));

const changed = new Set<string>();

/** Have a track heard anew, once for all that is changed in one go. */
function tell(track: string) {
  if (changed.size === 0) queueMicrotask(flush);
  changed.add(track);
}

function flush() {
  for (const track of changed) if (instead?.id !== track) engine.hold(track, heardOver(track));
  changed.clear();
  redraw();
}

/** Hear what the hand does, before it is an edit; null: it does nothing. */
export function hearHand(over: Over | null) {
  const was = hand;
  hand = withLed(over);
  for (const one of [...was, ...hand]) tell(one.track);
}

/** Hear a draft that lies over all gain; null: none. */
export function hearDraft(over: Over | null) {
  const was = laid;
  laid = withLed(over);
  for (const one of [...was, ...laid]) tell(one.track);
}

/** Hear an edit from when it was made until it is in the compiled gain. */
export function hearEdit(over: Over): Newer {
  const led = ledBy(over).map((other): Newer => ({ ...other, revision: null, led: [] }));
  const one = { ...over, revision: null, led };
  for (const each of [one, ...led]) {
    newer.push(each);
    tell(each.track);
  }
  return one;
}

/** An edit was answered with the ``tracks`` as they are since then, of the ``revision``. */
export function wasAnswered(one: Newer, tracks: Track[], revision: number) {
  for (const each of [one, ...one.led]) {
    each.revision = revision;
    const track = tracks.find(({ id }) => id === each.track);
    if (track) gainStands(track, revision);
    else letGo(each);
  }
}

/** A track is of a ``revision`` now: if its gain is the one that is heard - it may be so again - nothing older lies over it. */
export function gainStands(track: Track, revision: number) {
  if (gains.get(track.id)?.track.gain_key !== track.gain_key) return;
  const were = newer.length;
  isIn(track.id, revision);
  if (newer.length !== were) tell(track.id);
}

/** What is heard of a track has all edits up to a revision. */
function isIn(track: string, now: number) {
  newer = newer.filter(({ track: of, revision }) => of !== track || revision === null || revision > now);
}

/** An edit failed, or is in the compiled gain. */
export function wasDropped(one: Newer) {
  for (const each of [one, ...one.led]) letGo(each);
}

function letGo(one: Newer) {
  newer = newer.filter((other) => other !== one);
  tell(one.track);
}

export const hasGain = (track: Track, layers: string): boolean => {
  const known = gains.get(track.id);
  return known?.track.gain_key === track.gain_key && known.layers === layers;
};

/** The compiled gain of a track, of some of its layers, if it is the one that is heard. */
export const gainOf = (track: Track, layers: string): GainPoints | null =>
  hasGain(track, layers) ? gains.get(track.id)!.points : null;

/** The compiled gain of a track has come, of some of its layers; it has all edits up to a ``revision``. */
export function gainCame(track: Track, layers: string, points: GainPoints, revision: number) {
  isIn(track.id, revision);
  gains.set(track.id, { track, layers, points });
  changed.delete(track.id);
  if (instead?.id !== track.id) engine.setGain(track, points, heardOver(track.id));
}

/** Hear a track by its own gain again. */
export function gainAgain({ id }: Track) {
  const known = gains.get(id);
  if (known) engine.setGain(known.track, known.points, heardOver(id));
}

/** Let a track be heard as something else, with a gain that is none of its own; null: no longer. Gives back which one was. */
export function setInstead(track: Track | null): Track | null {
  const was = instead;
  instead = track;
  return was;
}

/** A track as it is heard. */
export const heardAs = (track: Track): Track => (instead?.id === track.id ? instead : track);

/** The session is left. */
export function forgetGains() {
  instead = null;
  newer = [];
  hand = [];
  laid = [];
  gains.clear();
}

useView.subscribe((now, old) => {
  if (now.layers !== old.layers) for (const { track } of all()) tell(track);
});
