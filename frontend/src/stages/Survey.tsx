/** Stage Survey: bring recordings in, see what came, choose the target. */
import { ActionIcon, Button, Menu, Radio, Text, VisuallyHidden } from "@mantine/core";
import { IconDots, IconFileMusic } from "@tabler/icons-react";
import { useEffect, useRef, useState } from "react";
import { api, type Take, type Track } from "../api/client";
import { hearTake, layOut, matchTakes, useTimeline } from "../model/hand/timeline";
import { edit } from "../model/server/edits";
import { lookAt } from "../model/server/focus";
import { hasPhrases, leaderOf } from "../model/server/following";
import { useFigures, useTakes } from "../model/server/queries";
import { isJudged, trackOf, useSession } from "../model/server/session";
import { upload } from "../model/server/uploads";
import { useView } from "../model/view/view";
import { distanceUnit, plain, span } from "../parts/format";
import { NameDialog } from "../parts/NameDialog";
import { Roving } from "../parts/roving";
import { DropArea, Readable } from "./DropArea";
import { JobList } from "./JobList";
import { RuleMenu } from "./RuleMenu";
import { RulePanel } from "./RulePanel";
import { TargetFields } from "./TargetFields";
import { TrackMenu } from "./TrackMenu";
import { TrackSign } from "./TrackSign";
import "./Survey.css";

export function SurveyRule() {
  const id = useSession((s) => s.id);
  return (
    <RulePanel>
      <div className="panel-head">
        <h2>Import</h2>
      </div>
      <DropArea onFiles={(files) => upload(id, files)}>
        <Text size="sm" ta="center">
          <IconFileMusic size={16} /> Drop recordings or folders here, or click to choose
        </Text>
        <Text size="xs" ta="center" className="dim">
          <Readable />
        </Text>
      </DropArea>
      <JobList kind="import" />
      <Offer />
      <div className="panel-head">
        <h2>Target</h2>
        <RuleMenu />
      </div>
      <TargetFields />
    </RulePanel>
  );
}

const WAYS: Record<string, [string, string]> = {
  own: ["Each on its own track", "as now"],
  takes: ["As takes of one track", "one is heard; choose phrase by phrase"],
  after: ["One after the other", "on one track"],
  stamps: ["At their start stamps", "the earliest at the beginning"],
};

/** Files that came in together: how they are laid out is asked once, the likely way first in hand. */
function Offer() {
  const offer = useTimeline((s) => s.offer);
  const [way, setWay] = useState("");
  const main = useRef<HTMLButtonElement>(null);
  const isAsked = offer !== null;
  useEffect(() => {
    // whoever is typing goes on; else Enter answers
    if (isAsked && !document.activeElement?.matches("input, textarea, select")) main.current?.focus();
  }, [isAsked]);
  if (!offer) return null;
  const chosen = offer.ways.includes(way) ? way : offer.likely;
  return (
    <section className="offer" aria-label="Lay them out">
      <strong>{offer.tracks.length} files were imported together. Lay them out:</strong>
      <Radio.Group aria-label="How to lay them out" value={chosen} onChange={setWay}>
        {offer.ways.map((one) => (
          <Radio
            key={one}
            size="xs"
            value={one}
            label={WAYS[one]![0]}
            description={one === offer.likely ? `${WAYS[one]![1]}; likely` : WAYS[one]![1]}
          />
        ))}
      </Radio.Group>
      <Button ref={main} size="compact-sm" onClick={() => void layOut(chosen)}>
        {chosen === "own" ? "Keep as they are" : "Lay them out"}
      </Button>
    </section>
  );
}

export function SurveyList() {
  const header = useSession((s) => s.header);
  if (!header) return null;
  return (
    <section className="worklist" aria-label="Recordings">
      <div className="panel-head">
        <h2>Recordings</h2>
      </div>
      <Roving name="Tracks" axis="either" className="rows static">
        {header.tracks.map((track) => (
          <TrackCard key={track.id} track={track} />
        ))}
      </Roving>
    </section>
  );
}

function TrackCard({ track }: { track: Track }) {
  const focus = useView((s) => s.focus);
  const model = useSession();
  const { data } = useFigures(track.timeline.missing ? undefined : track.id);
  const { timeline } = track;
  const { rule, tracks } = model.header!;
  const leader = leaderOf(tracks, track);
  const clips = (model.clips[track.id] ?? []).filter(isJudged);
  const inFocus = trackOf(model, focus)?.id === track.id;
  return (
    <article className="track-card" data-focus={inFocus || undefined}>
      <div className="job-head">
        <button type="button" className="track-name" onClick={() => lookAt(track.id)}>
          <TrackSign track={track} />
          <strong>{track.name}</strong>
        </button>
        <TrackMenu track={track} />
      </div>
      {inFocus && track.takes.length > 1 && <Takes track={track} unit={distanceUnit(rule.unit)} />}
      {timeline.missing ? (
        <p className="note loud">The recording's file is missing. Import it again to restore the track.</p>
      ) : (
        <dl className="facts">
          <Fact name="length">{span(timeline.duration)}</Fact>
          {leader ? (
            <Fact name="follows">{leader.name}</Fact>
          ) : track.kind === "bed" ? (
            <Fact name="kind">bed</Fact>
          ) : (
            <Fact name="phrases">{clips.length}</Fact>
          )}
          {leader && track.lag !== 0 && <Fact name="begins">{delay(track.lag)}</Fact>}
          <Fact name="format">
            {timeline.formats.join(", ")} {(timeline.sample_rate / 1000).toFixed(timeline.sample_rate % 1000 ? 1 : 0)}{" "}
            kHz {timeline.channels === 1 ? "mono" : "stereo"}
          </Fact>
          <Fact name="room tone">{plain(timeline.room_tone, 0)} dBFS</Fact>
          {data && (
            <>
              <Fact name="integrated">
                {data.before.integrated === null ? "none" : `${plain(data.before.integrated)} LUFS`}
              </Fact>
              <Fact name="range">{data.before.loudness_range.toFixed(1)} LU</Fact>
              {hasPhrases(track) && (
                <Fact name="spread">
                  {data.before.spread.toFixed(1)} {distanceUnit(rule.unit)}
                </Fact>
              )}
              <Fact name="true peak" warn={(data.before.true_peak ?? -99) > 0}>
                {data.before.true_peak === null ? "none" : `${plain(data.before.true_peak)} dBTP`}
              </Fact>
            </>
          )}
        </dl>
      )}
    </article>
  );
}

/** The takes of a track with their figures; the one that is heard is chosen here. */
function Takes({ track, unit }: { track: Track; unit: string }) {
  const { data } = useTakes(track.id);
  const [renaming, setRenaming] = useState<Take | null>(null);
  if (!data) return null;
  return (
    <section className="takes" aria-label={`Takes of ${track.name}`}>
      <table>
        <thead>
          <tr>
            <th scope="col">take</th>
            <th scope="col">level</th>
            <th scope="col">spread</th>
            <th scope="col">room</th>
            <th scope="col">phrases</th>
            <th scope="col">
              <VisuallyHidden>more</VisuallyHidden>
            </th>
          </tr>
        </thead>
        <tbody className="mono">
          {data.map((take) => (
            <tr key={take.number}>
              <td>
                <Radio
                  size="xs"
                  name={`take of ${track.id}`}
                  label={take.name}
                  checked={take.number === track.take}
                  onChange={() => void hearTake(track.id, take.number)}
                />
              </td>
              <td>{take.level === null ? "none" : plain(take.level)}</td>
              <td title={unit}>{take.spread === null ? "none" : take.spread.toFixed(1)}</td>
              <td>{plain(take.room_tone, 0)}</td>
              <td>{take.count}</td>
              <td>
                <Menu position="bottom-end">
                  <Menu.Target>
                    <ActionIcon size="xs" variant="subtle" aria-label={`More for ${take.name}`}>
                      <IconDots size={12} />
                    </ActionIcon>
                  </Menu.Target>
                  <Menu.Dropdown>
                    <Menu.Item onClick={() => setRenaming(take)}>Rename</Menu.Item>
                    <Menu.Item
                      onClick={() =>
                        void edit("remove a take", (revision) => api.removeTake(track.id, revision, take.number))
                      }
                    >
                      Remove
                    </Menu.Item>
                  </Menu.Dropdown>
                </Menu>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Button size="compact-xs" variant="default" onClick={() => void matchTakes(track.id)}>
        Match levels to the take heard
      </Button>
      <NameDialog
        title="Rename the take"
        action="Rename"
        name={renaming?.name ?? null}
        onClose={() => setRenaming(null)}
        onName={(name) =>
          void edit("rename a take", (revision) => api.renameTake(track.id, revision, renaming!.number, name))
        }
      />
    </section>
  );
}

/** By how much who follows begins later than its leader, as in "0.250 s later". */
const delay = (lag: number) => `${Math.abs(lag).toFixed(3)} s ${lag > 0 ? "later" : "earlier"}`;

export function Fact({ name, warn, children }: { name: string; warn?: boolean; children: React.ReactNode }) {
  return (
    <div>
      <dt>{name}</dt>
      <dd className={warn ? "mono loud" : "mono"}>{children}</dd>
    </div>
  );
}
