/** Which track follows which: several microphones of one voice, of which one has the phrases. */
import type { Clip, Track } from "../../api/client";
import { useFigures } from "./queries";
import { useSession } from "./session";

/** Whether a track has phrases and details of its own: a bed has none, and who follows has those of its leader. */
export const hasPhrases = (track: Track | undefined) => track?.kind !== "bed" && !track?.follows;

export const leaderOf = (tracks: Track[], track: Track | undefined) =>
  track?.follows ? tracks.find((one) => one.id === track.follows) : undefined;

export const followersOf = (tracks: Track[], track: Track) => tracks.filter((one) => one.follows === track.id);

/** The tracks that a track could follow. */
export const leadersFor = (tracks: Track[], track: Track) =>
  followersOf(tracks, track).length > 0
    ? []
    : tracks.filter((one) => one.id !== track.id && one.id !== track.follows && one.kind === "voice" && !one.follows);

/** How loud a track gets that has no clips which say so, before and after, as amplitude; 0 while it is not known. */
export function useLoudest(track: Track | undefined): number {
  const { data } = useFigures(track?.follows ? track.id : undefined);
  const peak = Math.max(data?.before.true_peak ?? -200, data?.after.true_peak ?? -200);
  return data ? Math.max(10 ** (peak / 20), 0.01) : 0;
}

const NONE: Clip[] = [];
const known = new WeakMap<Clip[], Clip[]>();

/** The clips of a leader as who follows it is seen: where they lie and how high they are, and nothing that can be held. */
export function useShadows(track: Track): Clip[] {
  const clips = useSession((s) => (track.follows ? s.clips[track.follows] : undefined) ?? NONE);
  let shadows = known.get(clips);
  if (!shadows) {
    shadows = clips
      .filter((clip) => clip.recording === "")
      .map((clip) => ({ ...clip, phrase_start: null, phrase_end: null, before: null, after: null, label: "" }));
    known.set(clips, shadows);
  }
  return shadows;
}
