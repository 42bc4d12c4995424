/** Waveform tiles, fetched when first looked at and kept; a picture that misses one is drawn again when it comes. */
import { api, type Take, type Track } from "../api/client";
import { redraw } from "../model/view/view";

export const TILE = 1024;
export const BINS_PER_SECOND = 1600;
const LEVELS = 7;
const JOINED = 4;
const MOST = 800;
const AGAIN = 1000;

const kept = new Map<string, Float32Array | null>();

/** Whose waveform: what is heard of a track, or one of its takes. */
export type Sound = { track: string; key: string; take?: number };

export const soundOf = (track: Track, take?: Take): Sound =>
  take ? { track: track.id, key: take.key, take: take.number } : { track: track.id, key: track.timeline.key };

export function tile(sound: Sound, level: number, index: number): Float32Array | null {
  const key = `${sound.key}/${level}/${index}`;
  const found = kept.get(key);
  if (found !== undefined) return found;
  if (kept.size > MOST) {
    for (const old of [...kept.keys()].slice(0, MOST / 4)) kept.delete(old);
  }
  kept.set(key, null);
  api
    .waveTile(sound, level, index)
    .then((data) => {
      kept.set(key, data);
      redraw();
    })
    .catch(() =>
      // what was changed meanwhile is there again after an undo; until then it is not asked for with every picture
      window.setTimeout(() => {
        kept.delete(key);
        redraw();
      }, AGAIN),
    );
  return null;
}

/** The coarsest level that still has a bin for every pixel, and its bins per second. */
export function levelFor(secondsPerPixel: number): { level: number; rate: number } {
  let level = 0;
  while (level < LEVELS - 1 && (secondsPerPixel * BINS_PER_SECOND) / JOINED ** (level + 1) >= 1) level++;
  return { level, rate: BINS_PER_SECOND / JOINED ** level };
}

/** Lowest and highest sample of each pixel column, interleaved; NaN where the tile is not here yet. */
export function columns(sound: Sound, start: number, secondsPerPixel: number, width: number): Float32Array {
  const { level, rate } = levelFor(secondsPerPixel);
  const out = new Float32Array(width * 2).fill(Number.NaN);
  let held = -1;
  let data: Float32Array | null = null;
  for (let x = 0; x < width; x++) {
    const first = Math.max(0, Math.floor((start + x * secondsPerPixel) * rate));
    const last = Math.max(first, Math.ceil((start + (x + 1) * secondsPerPixel) * rate) - 1);
    let low = Number.POSITIVE_INFINITY;
    let high = Number.NEGATIVE_INFINITY;
    for (let bin = first; bin <= last; bin++) {
      const index = Math.floor(bin / TILE);
      if (index !== held) {
        held = index;
        data = tile(sound, level, index);
      }
      const at = (bin - index * TILE) * 2;
      if (data && at < data.length) {
        low = Math.min(low, data[at]!);
        high = Math.max(high, data[at + 1]!);
      }
    }
    if (high >= low) {
      out[2 * x] = low;
      out[2 * x + 1] = high;
    }
  }
  return out;
}
