/** A track as it is played. */
import type { Track } from "../api/client";
import { NOTHING } from "./walker";
import type { GainPoints, ToWorklet } from "./worklet";

export type Switch = Extract<ToWorklet, { type: "set" }>["what"];

/** What a track that says nothing else is set to. */
const AT_REST: Record<Switch, number> = { after: 1, fader: 0, heard: 1, load: 0, behind: 0 };

/** A track as it is played: what is there of it, and how it is set. */
export class Source {
  /** The blocks of its samples, and of what a compressor does to it, that the audio thread has. */
  readonly have = new Set<number>();
  readonly loads = new Set<number>();
  points: GainPoints | null = null;
  held: GainPoints = NOTHING;
  /** What tells the reduction that is heard from another. */
  loadKey = "";
  readonly set = { ...AT_REST };
  constructor(public track: Track) {}

  get key(): string {
    return `${this.track.timeline.key}/${this.track.take}`;
  }
}
