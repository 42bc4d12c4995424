/** What stands beside the picture of a track that follows another: its phrases, details and rides are those of its leader. */
import { Button } from "@mantine/core";
import { useEffect } from "react";
import type { Track } from "../api/client";
import { lookAt } from "../model/server/focus";
import { leaderOf } from "../model/server/following";
import { useSession } from "../model/server/session";
import { type Stage, useView } from "../model/view/view";

/** Where all that there is to do is done to the leader. */
export const OF_LEADERS: ReadonlySet<Stage> = new Set(["phrases", "details", "ride"]);

export function Led({ track }: { track: Track }) {
  const leader = useSession((s) => leaderOf(s.header!.tracks, track));
  // the trim is the one lane that is its own
  useEffect(() => useView.setState({ lane: "trim", points: new Set() }), []);
  if (!leader) return null;
  return (
    <section className="worklist" aria-label="Followed">
      <div className="panel-head">
        <h2>Follows “{leader.name}”</h2>
      </div>
      <p className="note led-note">
        “{track.name}” has the gain of “{leader.name}”, sample for sample, and lies where that lies: phrases, details
        and rides are done there. Its trim and its fader are its own.
      </p>
      <Button size="xs" className="led-act" onClick={() => lookAt(leader.id)}>
        Go to “{leader.name}”
      </Button>
    </section>
  );
}
