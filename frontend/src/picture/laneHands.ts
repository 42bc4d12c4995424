/** Hands in a lane: clips are moved along it or into another one, their ends are trimmed, empty ground is a span. */
import type { PointerEvent as ReactPointer } from "react";
import type { Clip, Track } from "../api/client";
import { moveClips, trimEnd } from "../model/hand/timeline";
import { seek } from "../model/heard/listening";
import { phraseSpan } from "../model/server/focus";
import { useSession } from "../model/server/session";
import { hand, inHand, redraw, useView } from "../model/view/view";
import { signed, time } from "../parts/format";
import { px } from "../parts/step";
import { engine } from "../sound/engine";
import { type Axis, axis, clipIndexAt } from "./axis";
import { place, takeHold } from "./chartHands";
import { dragSpan } from "./groundHands";
import { hideAtHand, showAtHand } from "./HandLabel";
import { axisLock, isFree, startDrag } from "./hands";
import { BORDER_GRIP } from "./scene";
import { hidePull, puller } from "./snapping";

/** What tells a lane from others; takes of a track that are not heard have a number. */
export const laneName = (track: string, take?: number) => (take === undefined ? track : `${track}/${take}`);
const trackOfLane = (lane: string) => lane.split("/")[0]!;
const takeOfLane = (lane: string) => (lane.includes("/") ? Number(lane.split("/")[1]) : undefined);

const GRIP = px(6);

function clipAt(clips: Clip[], seconds: number): Clip | null {
  const clip = clips[clipIndexAt(clips, seconds)];
  return clip && clip.start <= seconds ? clip : null;
}

/** The end of a clip that lies under the hand, at the foot of the lane. */
function endAt(clips: Clip[], a: Axis, x: number, y: number, height: number) {
  if (y < height - BORDER_GRIP - 4) return null;
  const i = clipIndexAt(clips, a.seconds(x));
  for (const clip of [clips[i], clips[i - 1], clips[i + 1]]) {
    if (!clip) continue;
    for (const edge of ["start", "end"] as const) {
      if (Math.abs(a.x(clip[edge]) - x) <= GRIP) return { clip, edge };
    }
  }
  return null;
}

export function laneHover(event: ReactPointer<HTMLElement>, clips: Clip[]) {
  const { x, y, width, height } = place(event.currentTarget, event.clientX, event.clientY);
  const a = axis(useView.getState().window, width);
  const cursor = endAt(clips, a, x, y, height) ? "ew-resize" : clipAt(clips, a.seconds(x)) ? "grab" : "";
  event.currentTarget.style.cursor = cursor;
}

export function laneDown(event: ReactPointer<HTMLElement>, track: Track, clips: Clip[], heard: boolean) {
  const at = takeHold(event);
  if (!at) return;
  const { x, y, width, height } = at;
  const a = axis(useView.getState().window, width);
  if (useView.getState().focus !== track.id)
    useView.setState({ focus: track.id, selection: new Set(), marks: new Set(), span: null });
  if (!heard) {
    // a take that is not heard is looked at, and heard by its button
    seek(a.seconds(x));
    return;
  }
  const end = endAt(clips, a, x, y, height);
  const clip = clipAt(clips, a.seconds(x));
  if (end) dragEnd(event.nativeEvent, a, track, clips, end);
  else if (clip) dragClips(event.nativeEvent, a, track, clips, clip, x);
  else dragSpan(event.nativeEvent, a, x);
}

/** What a lane's clips are drawn to: ends of clips that stay, the play line, phrases of other tracks, and ``more``. */
function pullerFor(a: Axis, track: Track, clips: Clip[], moving: Set<string>, more: number[] = []) {
  const stay = clips.filter((clip) => !moving.has(clip.id)).flatMap((clip) => [clip.start, clip.end]);
  const others = Object.entries(useSession.getState().clips).flatMap(([id, own]) =>
    id === track.id ? [] : own.flatMap((clip) => (clip.phrase_start === null ? [] : Object.values(phraseSpan(clip)))),
  );
  const places = [0, ...stay, ...others, ...more, engine.seconds].sort((p, q) => p - q);
  return puller(a, () => [["clip", places]]);
}

function dragClips(down: PointerEvent, a: Axis, track: Track, clips: Clip[], clip: Clip, x: number) {
  const { selection } = useView.getState();
  const already = selection.has(clip.id);
  const more = down.shiftKey || isFree(down);
  const chosen = already ? selection : more ? new Set([...selection, clip.id]) : new Set([clip.id]);
  useView.setState({ selection: chosen, marks: new Set(), points: new Set(), span: null });
  const moving = clips.filter((one) => chosen.has(one.id));
  const home = laneName(track.id);
  const lock = axisLock();
  const start = Math.min(...moving.map((one) => one.start));
  const end = Math.max(...moving.map((one) => one.end));
  // whatever is recorded elsewhere than it lies is drawn to where it was, too
  const back = [...new Set(moving.map((one) => one.shift))];
  const pulled = pullerFor(a, track, clips, chosen, back.length === 1 ? [start - back[0]!] : []);
  const reset = () => {
    hand.move = null;
    hideAtHand();
    hidePull();
    document.querySelector(".lane-target")?.classList.remove("lane-target");
    redraw();
  };
  startDrag(down, {
    move: (dx, dy, event) => {
      if (lock(dx, dy) === "y") {
        const lane = laneUnder(event);
        document.querySelector(".lane-target")?.classList.remove("lane-target");
        if (lane && lane.dataset.lane !== home) lane.classList.add("lane-target");
        hand.move = { ids: chosen, seconds: 0, lane: lane?.dataset.lane ?? home };
        const name = lane?.getAttribute("aria-label") ?? "";
        showAtHand(event.clientX, event.clientY, [hand.move.lane === home ? "stays here" : `to ${name}`]);
        return redraw();
      }
      let by = dx * a.perPixel * (event.altKey ? 0.1 : 1);
      for (const edge of [start, end]) {
        const { at, place } = pulled(edge + by, event);
        by = at - edge;
        if (place !== null) break;
      }
      by = Math.max(by, -start);
      hand.move = { ids: chosen, seconds: by, lane: home };
      showAtHand(event.clientX, event.clientY, [`${signed(by, 3)} s`, `begins ${time(start + by)}`]);
      redraw();
    },
    end: () => {
      const moved = hand.move;
      if (!moved) return reset();
      hideAtHand();
      hidePull();
      const lane = moved.lane ?? home;
      const to = lane === home ? {} : { track: trackOfLane(lane), take: takeOfLane(lane) };
      if (lane === home && moved.seconds === 0) return reset();
      const isStill = inHand();
      void moveClips(track.id, [...chosen], { by: moved.seconds, ...to }).then((done) => {
        const there = done && lane !== home && takeOfLane(lane) === undefined;
        if (there && isStill()) useView.setState({ focus: trackOfLane(lane) });
      });
      reset();
    },
    cancel: () => {
      reset();
      useView.setState({ selection });
    },
    click: () => {
      reset();
      if (already && more) {
        const left = new Set(selection);
        left.delete(clip.id);
        useView.setState({ selection: left });
      } else if (already && !more) useView.setState({ selection: new Set([clip.id]) });
      if (!more && !engine.playing) seek(a.seconds(x));
    },
  });
}

const laneUnder = (event: PointerEvent) =>
  document.elementFromPoint(event.clientX, event.clientY)?.closest<HTMLElement>("[data-lane]") ?? null;

function dragEnd(
  down: PointerEvent,
  a: Axis,
  track: Track,
  clips: Clip[],
  { clip, edge }: { clip: Clip; edge: "start" | "end" },
) {
  const least = useSession.getState().terms!.shortest_clip;
  const length = track.timeline.lengths[clip.recording] ?? Number.POSITIVE_INFINITY;
  const [begins, ends] = [Math.max(clip.shift, 0), clip.shift + length];
  const pulled = pullerFor(a, track, clips, new Set([clip.id]));
  const reset = () => {
    hand.end = null;
    hideAtHand();
    hidePull();
    redraw();
  };
  useView.setState({ selection: new Set([clip.id]), marks: new Set(), span: null });
  startDrag(down, {
    move: (dx, _, event) => {
      let { at } = pulled(clip[edge] + dx * a.perPixel * (event.altKey ? 0.1 : 1), event);
      at =
        edge === "start"
          ? Math.min(Math.max(at, begins), clip.end - least)
          : Math.max(Math.min(at, ends), clip.start + least);
      hand.end = { clip: clip.id, edge, at };
      const most = edge === "start" ? at <= begins : at >= ends;
      showAtHand(event.clientX, event.clientY, [
        time(at),
        most ? `the recording ${edge === "start" ? "begins" : "ends"} here` : edge,
      ]);
      redraw();
    },
    end: () => {
      const at = hand.end?.at;
      hideAtHand();
      hidePull();
      if (at === undefined || at === clip[edge]) return reset();
      void trimEnd(track.id, clip.id, edge, at);
      reset();
    },
    cancel: reset,
    click: reset,
  });
}
