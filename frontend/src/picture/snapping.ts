/**
 * What edges and points are drawn to: phrase edges, onsets in the waveform, other points. The pull is soft - near a place the
 * hand is slowed down towards it, at the place it holds - and it is seen: a line stands over all strips. Ctrl or Cmd lets go.
 */

import { onsets } from "../model/heard/heard";
import { focusedClips } from "../model/server/focus";
import { firstPlace } from "../parts/search";
import { px } from "../parts/step";
import type { Axis } from "./axis";
import { isFree } from "./hands";

/** Pixels around a place in which it holds; as far again it pulls. */
export const SNAP = px(7);

export type PlaceKind = "phrase" | "onset" | "point" | "clip";

export const AT_PLACE: Record<PlaceKind, string> = {
  phrase: "at a phrase",
  onset: "at an onset",
  point: "at a point",
  clip: "at a clip",
};

export interface Pulled {
  at: number;
  /** The place that holds or pulls, if any. */
  place: number | null;
  kind: PlaceKind | null;
  holds: boolean;
}

let element: HTMLElement | null = null;
export const setSnapLine = (line: HTMLElement | null) => {
  element = line;
};

/** The nearest of some places in rising order. */
function nearest(places: ArrayLike<number>, at: number): number | null {
  const i = firstPlace(places.length, (k) => places[k]! >= at);
  const [before, after] = [places[i - 1], places[i]];
  if (before === undefined || after === undefined) return before ?? after ?? null;
  return at - before < after - at ? before : after;
}

/** Softly towards a place: held within ``reach`` of it, slowed down as far again, free beyond. Never backwards. */
export function pull(at: number, place: number, reach: number): number {
  const away = Math.abs(at - place);
  if (away <= reach) return place;
  if (away >= 2 * reach) return at;
  return place + Math.sign(at - place) * 2 * (away - reach);
}

/** The pull of everything there is to hold on to; ``points`` are those of the lane in hand. */
export function snapper(a: Axis, points: number[] = []) {
  const clips = focusedClips();
  const phrases = clips.flatMap((c) => (c.phrase_start === null ? [] : [c.phrase_start, c.phrase_end!]));
  return puller(a, () => [
    ["phrase", phrases],
    ["point", points],
    // they come a moment after the picture
    ["onset", onsets()],
  ]);
}

/** The pull of what there is at each movement, each kind in rising order. */
export function puller(a: Axis, kinds: () => [PlaceKind, ArrayLike<number>][]) {
  const reach = SNAP * a.perPixel;
  return (at: number, event: { ctrlKey: boolean; metaKey: boolean }): Pulled => {
    let found: Pulled = { at, place: null, kind: null, holds: false };
    if (!isFree(event)) {
      let least = 2 * reach;
      for (const [kind, places] of kinds()) {
        const place = nearest(places, at);
        if (place === null || Math.abs(place - at) >= least) continue;
        least = Math.abs(place - at);
        found = { at: pull(at, place, reach), place, kind, holds: least <= reach };
      }
    }
    showPull(a, found);
    return found;
  };
}

function showPull(a: Axis, pulled: Pulled) {
  if (!element) return;
  element.hidden = pulled.place === null;
  if (pulled.place === null) return;
  element.style.transform = `translateX(${a.x(pulled.place).toFixed(1)}px)`;
  element.className = `snap-line${pulled.holds ? " snap-holds" : ""}`;
  element.dataset.kind = pulled.kind ?? "";
}

export const hidePull = () => {
  if (element) element.hidden = true;
};
