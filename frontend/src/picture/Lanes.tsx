/** The lanes of a session: every track a row with its clips on one axis; the track in focus opens its takes below it. */
import { useComputedColorScheme } from "@mantine/core";
import { type DragEvent, Fragment, useEffect } from "react";
import type { Clip, Take, Track } from "../api/client";
import { chosenFrom, hearTake } from "../model/hand/timeline";
import { chooseClip } from "../model/hand/worklist";
import { leaderOf, useLoudest, useShadows } from "../model/server/following";
import { useTakes } from "../model/server/queries";
import { trackOf, useSession } from "../model/server/session";
import { chosenFiles } from "../model/server/soundFormats";
import { dropOnto } from "../model/server/uploads";
import { useView } from "../model/view/view";
import { db, time } from "../parts/format";
import { isByKey, useRoving } from "../parts/roving";
import { PALETTES } from "../parts/theme";
import { useBox } from "../parts/useBox";
import { isMore } from "../parts/useRows";
import { axis, GUTTER, RULER, visible } from "./axis";
import { Canvas } from "./Canvas";
import { place } from "./chartHands";
import { ruler } from "./drawChart";
import { drawLane, type LaneScene } from "./drawLane";
import { loudest } from "./drawStrips";
import { ExactPlace } from "./ExactPlace";
import { HeardSwitches } from "./HeardSwitches";
import { laneDown, laneHover, laneName } from "./laneHands";
import { bringNext } from "./neighbours";
import { soundOf } from "./tiles";
import "./Lanes.css";

const MOST_HANDLES = 250;

export function Lanes() {
  const header = useSession((s) => s.header);
  const focus = useView((s) => s.focus);
  const inFocus = useSession((s) => trackOf(s, focus));
  const { data } = useTakes(inFocus && inFocus.takes.length > 1 ? inFocus.id : undefined);
  const scheme = useComputedColorScheme("light");
  const palette = PALETTES[scheme];
  const roving = useRoving({
    axis: "lines",
    items: "button",
    line: ".lane",
    chosen: ".lane-clip[aria-pressed=true]",
    beyond: (from, way) => {
      const lanes = Object.values(useSession.getState().clips);
      const own = lanes.find((clips) => clips.some(({ id }) => id === from.dataset.clip));
      return own ? bringNext(own, from, way, (clip) => clip) : null;
    },
  });
  if (!header) return null;
  return (
    <div className="strip strip-chart lanes" data-testid="lanes">
      <div className="lane-ruler" style={{ height: RULER }}>
        <Canvas
          draw={(ctx, width, height) => {
            const { window } = useView.getState();
            ctx.clearRect(0, 0, width, height);
            ruler(ctx, axis(window, width), { window, palette }, height);
          }}
        />
      </div>
      <div className="lane-rows" ref={roving}>
        {header.tracks.map((track) => {
          const isInFocus = track.id === inFocus?.id;
          const takes = isInFocus ? others(track, data) : NO_TAKES;
          return (
            <Fragment key={track.id}>
              <Lane track={track} takes={takes} scheme={scheme} focus={isInFocus} />
              {takes.map((take) => (
                <Lane key={take.number} track={track} take={take} takes={takes} scheme={scheme} focus />
              ))}
            </Fragment>
          );
        })}
      </div>
    </div>
  );
}

/** The takes of a track that are not heard, as far as they are known and still there. */
const others = (track: Track, takes: Take[] | undefined) =>
  takes?.filter((take) => take.number !== track.take && track.takes.some((t) => t.number === take.number)) ?? NO_TAKES;

interface LaneProps {
  track: Track;
  /** The takes that are shown below the one that is heard: waves of all of them share one scale. */
  takes: Take[];
  /** A take that is not heard; without one, what is heard. */
  take?: Take;
  focus: boolean;
  scheme: "light" | "dark";
}

const NONE: Clip[] = [];
const NO_TAKES: Take[] = [];

function Lane({ track, take, takes, focus, scheme }: LaneProps) {
  const heard = take === undefined;
  const own = useSession((s) => s.clips[track.id] ?? NONE);
  const shadows = useShadows(track);
  const ofFollower = useLoudest(track);
  const leader = useSession((s) => leaderOf(s.header!.tracks, track)?.name);
  const clips = take ? take.clips : own;
  const tolerance = useSession((s) => s.header!.rule.tolerance);
  const several = useSession((s) => s.header!.tracks.length > 1);
  const { ref, width, height } = useBox();
  const lane = laneName(track.id, take?.number);
  const inFocus = focus && heard;
  useEffect(() => {
    // a track that is chosen elsewhere is brought into sight
    if (inFocus) document.querySelector(`[data-lane="${lane}"]`)?.scrollIntoView({ block: "nearest" });
  }, [inFocus, lane]);
  const name = take?.name ?? track.takes.find((t) => t.number === track.take)?.name ?? track.name;
  const title = track.takes.length > 1 ? `${track.name}: ${name}` : track.name;
  const scene = (): LaneScene => {
    const view = useView.getState();
    return {
      lane,
      sound: soundOf(track, take),
      clips: leader === undefined ? clips : shadows,
      loudest: ofFollower || Math.max(loudest(own), ...takes.map((one) => loudest(one.clips))),
      from: (clip) => chosenFrom(track, take?.number ?? track.take, clip),
      target: track.target,
      tolerance,
      window: view.window,
      span: view.span,
      selection: view.selection,
      heard,
      focus,
      palette: PALETTES[scheme],
    };
  };
  const drop = (event: DragEvent<HTMLElement>) => {
    const files = [...event.dataTransfer.files];
    if (files.length === 0) return;
    event.preventDefault();
    event.currentTarget.classList.remove("lane-target");
    const at = place(event.currentTarget, event.clientX, event.clientY);
    const seconds = Math.max(0, axis(useView.getState().window, at.width).seconds(at.x));
    dropOnto(useSession.getState().id, chosenFiles(files), {
      track: track.id,
      take: take?.number,
      at: seconds,
    });
  };
  return (
    <section
      className="lane"
      data-lane={lane}
      data-testid={`lane-${lane}`}
      data-focus={focus || undefined}
      data-take={heard ? undefined : true}
      aria-label={title}
      onPointerDown={(event) => laneDown(event, track, clips, heard)}
      onPointerMove={(event) => heard && laneHover(event, clips)}
      onDoubleClick={(event) => {
        const clip = (event.target as Element).closest<HTMLElement>("[data-clip]")?.dataset.clip;
        if (heard && clip) useView.setState({ exact: clip, selection: new Set([clip]) });
      }}
      onDragOver={(event) => {
        event.preventDefault();
        event.currentTarget.classList.add("lane-target");
      }}
      onDragLeave={(event) => event.currentTarget.classList.remove("lane-target")}
      onDrop={drop}
      ref={ref}
    >
      <Canvas draw={(ctx, w, h) => drawLane(ctx, w, h, scene())} />
      <span className="lane-name">
        {take ? (
          <button
            type="button"
            className="lane-hear"
            onPointerDown={(event) => event.stopPropagation()}
            onClick={() => void hearTake(track.id, take.number)}
          >
            hear
          </button>
        ) : null}
        {title}
        {heard && leader !== undefined && <span className="dim"> follows {leader}</span>}
        {heard && several && <HeardSwitches track={track} />}
        {heard && track.timeline.missing && " (its sound file is missing)"}
      </span>
      {heard && <ClipButtons track={track} clips={clips} width={width} />}
      {heard && focus && <ExactPlace width={width} height={height} />}
    </section>
  );
}

/** Every clip in sight as a button for keyboard and screen reader; it lies where the clip lies. */
function ClipButtons({ track, clips, width }: { track: Track; clips: Clip[]; width: number }) {
  const window = useView((s) => s.window);
  const selection = useView((s) => s.selection);
  if (width === 0) return null;
  const shown = visible(clips, window);
  if (shown.length > MOST_HANDLES) return null;
  const a = axis(window, width);
  return shown.map((clip) => {
    const left = Math.max(a.x(clip.start), GUTTER);
    return (
      <button
        type="button"
        key={clip.id}
        className="lane-clip"
        data-clip={clip.id}
        aria-pressed={selection.has(clip.id)}
        aria-label={describeClip(clip, clips.indexOf(clip) + 1, chosenFrom(track, track.take, clip))}
        style={{ left, width: Math.max(a.x(clip.end) - left, 3) }}
        onClick={(event) => {
          if (!isByKey(event)) return;
          useView.setState({ focus: track.id });
          chooseClip(clip, isMore(event));
        }}
      />
    );
  });
}

/** A clip in words, as in "Clip 12, 0:31.200 to 0:34.900, gain +2.0 dB, moved by 3.250 s". */
export function describeClip(clip: Clip, number: number, from: string | null = null): string {
  const parts = [`Clip ${number}`, `${time(clip.start)} to ${time(clip.end)}`, `gain ${db(clip.gain)}`];
  if (clip.phrase_start === null) parts.push("no phrase");
  if (from) parts.push(`chosen from ${from}`);
  if (clip.label) parts.push(`“${clip.label}”`);
  if (Math.abs(clip.shift) > 1e-6)
    parts.push(`${Math.abs(clip.shift).toFixed(3)} s ${clip.shift > 0 ? "later" : "earlier"} than recorded`);
  if (clip.locked) parts.push("locked");
  return parts.join(", ");
}
