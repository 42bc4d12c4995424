/** The one time axis of all strips, and the scales of level and gain. */
import type { Clip } from "../api/client";
import type { Span } from "../model/view/view";
import { firstPlace } from "../parts/search";
import { px } from "../parts/step";

export const GUTTER = px(46);
export const RULER = px(18);

export interface Axis {
  x: (seconds: number) => number;
  seconds: (x: number) => number;
  perPixel: number;
  width: number;
}

export function axis(window: Span, width: number): Axis {
  const perPixel = (window.end - window.start) / Math.max(1, width - GUTTER);
  return {
    x: (seconds) => GUTTER + (seconds - window.start) / perPixel,
    seconds: (x) => window.start + (x - GUTTER) * perPixel,
    perPixel,
    width,
  };
}

export interface Scale {
  low: number;
  high: number;
  y: (value: number) => number;
  perPixel: number;
}

export function scale(low: number, high: number, top: number, bottom: number): Scale {
  const perPixel = (high - low) / Math.max(1, bottom - top);
  return { low, high, y: (value) => top + (high - value) / perPixel, perPixel };
}

/** Deviations that the level chart has to show: at least -9 ... +7.5, further where phrases lie further off, or for a bed. */
export function chartRange(clips: Clip[], target: number, withBed = false): { low: number; high: number } {
  let low = withBed ? -22 : -9;
  let high = 7.5;
  for (const clip of clips) {
    if (clip.after === null || clip.before === null) continue;
    low = Math.min(low, clip.after - target - 1.5, clip.before - target - 1.5);
    high = Math.max(high, clip.after - target + 1.5, clip.before - target + 1.5);
  }
  return { low: Math.max(low, -30), high: Math.min(high, 21) };
}

/** A round step so that ticks lie at least ``room`` pixels apart. */
export function tickStep(perPixel: number, room: number): number {
  const steps = [0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1200, 1800, 3600];
  return steps.find((step) => step / perPixel >= room) ?? 7200;
}

/** Index of the first clip that ends after a moment; clips follow each other in order. */
export function clipIndexAt(clips: Clip[], seconds: number): number {
  return firstPlace(clips.length, (i) => clips[i]!.end > seconds);
}

/** Whether a clip follows another without silence between them. */
export const meets = (clip: Clip, next: Clip) => next.start - clip.end < 1e-4;

/** The clips that a window shows. */
export function visible(clips: Clip[], window: Span): Clip[] {
  const out: Clip[] = [];
  for (let i = clipIndexAt(clips, window.start); i < clips.length && clips[i]!.start < window.end; i++)
    out.push(clips[i]!);
  return out;
}
