/** What stands before the name of a track: how level its phrases are, or why it has none. */
import type { Track } from "../api/client";
import { isJudged, offTarget, useSession } from "../model/server/session";
import { BedSign } from "../parts/BedSign";
import { FollowSign } from "../parts/FollowSign";
import { distanceUnit } from "../parts/format";
import { Vial, worst } from "../parts/Vial";

export function TrackSign({ track, isSmall = false }: { track: Track; isSmall?: boolean }) {
  const clips = useSession((s) => s.clips[track.id]) ?? [];
  const rule = useSession((s) => s.header!.rule);
  if (track.follows) return <FollowSign />;
  if (track.kind === "bed") return <BedSign />;
  const size = isSmall ? { width: 34, height: 12 } : {};
  const deviation = worst(clips.filter(isJudged).map((clip) => offTarget(clip, track.target)!));
  return <Vial deviation={deviation} tolerance={rule.tolerance} unit={distanceUnit(rule.unit)} {...size} />;
}
