/** How the tracks are heard together: mute, solo, faders, before and after; what of it the engine has to know. */
import { create } from "zustand";
import { api, type Track } from "../../api/client";
import { engine } from "../../sound/engine";
import type { GainPoints } from "../../sound/worklet";
import { gainAgain, heardAs, setInstead } from "../server/ear";
import { edit } from "../server/edits";
import { focused } from "../server/focus";
import { overTrack } from "../server/over";
import { useSession } from "../server/session";
import { redraw, useView } from "../view/view";

/** Dropped into a session, a voice decides at which rate all of it is heard. */
function sessionRate(): number {
  const tracks = useSession.getState().header?.tracks ?? [];
  const there = tracks.filter((track) => !track.timeline.missing);
  return (there.find((track) => track.kind === "voice") ?? there[0])?.timeline.sample_rate ?? 48000;
}

/** Whether a track is heard among others: not muted, and soloed if any is; alone, only the one in focus. */
export function isHeard(track: Track, tracks: Track[], alone: boolean, focus: string): boolean {
  if (alone) return track.id === focus;
  return !track.mute && (track.solo || !tracks.some((other) => other.solo));
}

/** A fader that the hand holds, before it is an edit: what depends on it follows. */
export const useHeldFader = create<{ fader: { track: string; db: number } | null }>(() => ({ fader: null }));

/** What is heard of the track in focus so that both sides are equally loud. */
let matched = { before: 0, after: 0 };

/** Hear a fader where the hand holds it; what is given back lets go of it, unless another hold has taken its place. */
export function holdFader(fader: { track: string; db: number }): () => void {
  const put = (held: typeof fader | null) => {
    useHeldFader.setState({ fader: held });
    tellEngine();
    redraw();
  };
  put(fader);
  return () => {
    if (useHeldFader.getState().fader === fader) put(null);
  };
}

/** Hear before and after of the track in focus with these dB on top; nothing of it is in a render. */
export function setMatch(before: number, after: number) {
  matched = { before, after };
  tellEngine();
}

/** The fader of a track, where the hand holds it or where it stands. */
export function faderOf(track: Track): number {
  const { fader } = useHeldFader.getState();
  return fader?.track === track.id ? fader.db : track.fader;
}

/** Play the tracks of the session as they are now, but one that is heard as something else. */
export function playTracks() {
  engine.setTracks((useSession.getState().header?.tracks ?? []).map(heardAs), sessionRate());
  tellEngine();
}

/** Hear a track with another of its takes and the gain of that, whatever else changes meanwhile; null: by its own again. */
export function hearTakeInstead(other: { track: Track; gain: GainPoints } | null) {
  const was = setInstead(other?.track ?? null);
  playTracks();
  if (other) engine.setGain(other.track, other.gain, []);
  else if (was) gainAgain(was);
}

export function tellEngine() {
  const tracks = useSession.getState().header?.tracks ?? [];
  const { before, beforeAll, alone, load, behind } = useView.getState();
  const focus = focused()?.id ?? "";
  for (const track of tracks) {
    const isBefore = before && (beforeAll || track.id === focus);
    const match = track.id === focus ? matched : { before: 0, after: 0 };
    engine.set(track.id, {
      after: isBefore ? 0 : 1,
      fader: faderOf(track) + (isBefore ? match.before : match.after),
      heard: isHeard(track, tracks, alone, focus) ? 1 : 0,
      load: load && track.kind === "voice" ? 1 : 0,
      behind: behind ? 1 : 0,
    });
    // what the compressor does is another with every edit of the gain
    engine.setLoad(track.id, `${track.gain_key}:${JSON.stringify(track.load)}`);
  }
}

/** Play to the end of what is heard. */
export function heardLength(): number {
  const track = focused();
  if (useView.getState().alone) return track?.timeline.duration ?? 0;
  return Math.max(...(useSession.getState().header?.tracks ?? []).map(({ timeline }) => timeline.duration), 0);
}

export function setFader(track: string, db: number): Promise<boolean> {
  const over = overTrack(track, () => ({ fader: db }));
  const gesture = `fader ${track}`;
  return edit("move the fader", (revision) => api.changeTrack(track, revision, { fader: db }), { over, gesture });
}

export function toggleHeard(which: "mute" | "solo", track = focused()) {
  const now = useSession.getState().header?.tracks.find((one) => one.id === track?.id);
  if (!now) return;
  const change = { [which]: !now[which] };
  void edit(`${which} a track`, (revision) => api.changeTrack(now.id, revision, change), {
    over: overTrack(now.id, () => change),
  });
}

/** Put a track some places further down the list, or up; at its end it stays. */
export function moveTrack(by: 1 | -1, track = focused()) {
  const tracks = useSession.getState().header?.tracks ?? [];
  const place = tracks.findIndex((one) => one.id === track?.id) + by;
  if (!track || place < 0 || place >= tracks.length) return;
  void edit("put a track elsewhere", (revision) => api.changeTrack(track.id, revision, { place }));
}

export function duplicateTrack(track = focused()) {
  if (track) void edit("duplicate a track", (revision) => api.duplicateTrack(track.id, revision));
}

export function setKind(track: string, kind: Track["kind"]) {
  return edit("change the kind of a track", (revision) =>
    api.changeTrack(track, revision, { kind: kind as "voice" | "bed" }),
  );
}
