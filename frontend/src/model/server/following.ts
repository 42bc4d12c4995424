/** Which track follows which: several microphones of one voice, of which one has the phrases. */
import { useMemo } from "react";
import type { Clip, Track } from "../../api/client";
import { useFigures } from "./queries";
import { useSession } from "./session";

/** Whether a track has phrases and details of its own: a bed has none, and who follows has those of its leader. */
export const hasPhrases = (track: Track | undefined) => track?.kind !== "bed" && !track?.follows;

export const leaderOf = (tracks: Track[], track: Track | undefined) =>
  track?.follows ? tracks.find((one) => one.id === track.follows) : undefined;

export const followersOf = (tracks: Track[], track: Track) => tracks.filter((one) => one.follows === track.id);

/** The other tracks that have phrases and could be followed. */
const voicesBeside = (tracks: Track[], track: Track) => tracks.filter((one) => one.id !== track.id && hasPhrases(one));

/** The tracks that a track could follow. */
export const leadersFor = (tracks: Track[], track: Track) =>
  followersOf(tracks, track).length > 0 ? [] : voicesBeside(tracks, track).filter(({ id }) => id !== track.follows);

/** Whom the followers of a track may follow when it goes: one of them, or another voice. */
export function heirsOf(tracks: Track[], track: Track): Track[] {
  const followers = followersOf(tracks, track);
  return [...(followers.length > 1 ? followers : []), ...voicesBeside(tracks, track)];
}

/** How loud a track gets that has no clips which say so, before and after, as amplitude; 0 while it is not known. */
export function useLoudest(track: Track | undefined): number {
  const { data } = useFigures(track?.follows ? track.id : undefined);
  const peak = Math.max(data?.before.true_peak ?? -200, data?.after.true_peak ?? -200);
  return data ? Math.max(10 ** (peak / 20), 0.01) : 0;
}

const NONE: Clip[] = [];

/** The clips of a leader as who follows it is seen: where they lie and how high they are, and nothing that can be held. */
export function useShadows(track: Track): Clip[] {
  const clips = useSession((s) => (track.follows ? s.clips[track.follows] : undefined) ?? NONE);
  return useMemo(
    () =>
      clips
        .filter((clip) => clip.recording === "")
        .map((clip) => ({ ...clip, phrase_start: null, phrase_end: null, before: null, after: null, label: "" })),
    [clips],
  );
}
