/** What can be done to a whole track: its name, place and kind, whom it follows, and taking it out. */
import { ActionIcon, Button, Menu, Modal, Stack } from "@mantine/core";
import { IconDots } from "@tabler/icons-react";
import { useState } from "react";
import { api, type Track } from "../api/client";
import { alike, makeTake } from "../model/hand/timeline";
import { duplicateTrack, moveTrack, setKind } from "../model/heard/mix";
import { edit } from "../model/server/edits";
import { followersOf, hasPhrases, heirsOf, leaderOf, leadersFor } from "../model/server/following";
import { useSession } from "../model/server/session";
import { NameDialog } from "../parts/NameDialog";

const NAMES = new Intl.ListFormat("en");
const change = (track: Track, how: { leader?: string; together?: boolean }) =>
  void edit("follow another track", (revision) => api.followTrack(track.id, revision, how));
const remove = (track: Track, instead?: string) =>
  void edit("remove a track", (revision) => api.removeTrack(track.id, revision, instead));

export function TrackMenu({ track }: { track: Track }) {
  const tracks = useSession((s) => s.header!.tracks);
  const [renaming, setRenaming] = useState<string | null>(null);
  const [removing, setRemoving] = useState(false);
  const isBed = track.kind === "bed";
  const leader = leaderOf(tracks, track);
  const followers = followersOf(tracks, track);
  const leaders = leadersFor(tracks, track);
  return (
    <>
      <Menu position="bottom-end">
        <Menu.Target>
          <ActionIcon size="sm" variant="subtle" aria-label={`More for ${track.name}`}>
            <IconDots size={14} />
          </ActionIcon>
        </Menu.Target>
        <Menu.Dropdown className="track-menu">
          <Menu.Item onClick={() => setRenaming(track.name)}>Rename</Menu.Item>
          {!leader && (
            <Menu.Item onClick={() => void setKind(track.id, isBed ? "voice" : "bed")}>
              {isBed ? "Treat as a voice: find its phrases" : "Treat as a bed (music, ambience)"}
            </Menu.Item>
          )}
          <Menu.Item disabled={tracks[0]?.id === track.id} onClick={() => moveTrack(-1, track)}>
            Move up
          </Menu.Item>
          <Menu.Item disabled={tracks.at(-1)?.id === track.id} onClick={() => moveTrack(1, track)}>
            Move down
          </Menu.Item>
          <Menu.Item onClick={() => duplicateTrack(track)}>Duplicate</Menu.Item>
          {hasPhrases(track) &&
            alike(tracks, track).map((other) => (
              <Menu.Item key={other.id} onClick={() => makeTake(track.id, other.id)}>
                Make it a take of “{other.name}”
              </Menu.Item>
            ))}
          {(leader || leaders.length > 0) && <Menu.Label>Another microphone of one voice</Menu.Label>}
          {leaders.map((other) => (
            <Menu.Item key={other.id} onClick={() => change(track, { leader: other.id })}>
              Follow “{other.name}”
            </Menu.Item>
          ))}
          {leader && track.lag !== 0 && (
            <Menu.Item onClick={() => change(track, { together: true })}>Began together with “{leader.name}”</Menu.Item>
          )}
          {leader && <Menu.Item onClick={() => change(track, {})}>Stand on its own, with the gain it has</Menu.Item>}
          <Menu.Divider />
          <Menu.Item onClick={() => (followers.length > 0 ? setRemoving(true) : remove(track))}>
            Remove from the session
          </Menu.Item>
        </Menu.Dropdown>
      </Menu>
      <NameDialog
        title="Rename the track"
        action="Rename"
        name={renaming}
        onClose={() => setRenaming(null)}
        onName={(name) => void edit("rename a track", (revision) => api.changeTrack(track.id, revision, { name }))}
      />
      <Modal
        opened={removing && followers.length > 0}
        onClose={() => setRemoving(false)}
        title={`Remove “${track.name}”`}
        size="sm"
        centered
      >
        <Stack gap="sm">
          <p className="note">
            {NAMES.format(followers.map((one) => `“${one.name}”`))} {followers.length === 1 ? "follows" : "follow"} it.
            What becomes of {followers.length === 1 ? "its" : "their"} gain?
          </p>
          <Button fullWidth data-autofocus onClick={() => remove(track)}>
            Keep it, as clip gains and a ride
          </Button>
          {heirsOf(tracks, track).map((other) => (
            <Button fullWidth key={other.id} variant="default" onClick={() => remove(track, other.id)}>
              {followers.includes(other) ? "Let the others follow" : "Follow"} “{other.name}”
            </Button>
          ))}
        </Stack>
      </Modal>
    </>
  );
}
