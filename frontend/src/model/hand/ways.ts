/** Where the gain of a clip gives way to that of the next: a short ramp, or a glide through a long pause. */
import type { Clip } from "../../api/client";
import { firstPlace } from "../../parts/search";
import { heldGain } from "../server/session";
import { hand } from "../view/view";

/** The ways of a track with these clips, pairs of seconds: that of a border which is dragged goes along. */
export class Ways {
  constructor(
    private readonly clips: Clip[],
    private readonly samples: Float64Array,
    private readonly rate: number,
  ) {}

  /** From when to when the clip at a place gives way to the next; at their border where that is not known. */
  after(place: number): [number, number] {
    const clip = this.clips[place]!;
    const by = hand.border?.clip === clip.id ? hand.border.at - clip.end : 0;
    if (this.samples.length === 2 * (this.clips.length - 1))
      return [this.samples[2 * place]! / this.rate + by, this.samples[2 * place + 1]! / this.rate + by];
    const next = this.clips[place + 1]!;
    const border = (clip.end + next.start) / 2 + by;
    return [border, border];
  }

  /** Where the gain of the clip at a place holds, seconds: what lies between its two ways. */
  hold(place: number): [number, number] {
    const clip = this.clips[place]!;
    const from = place > 0 ? this.after(place - 1)[1] : clip.start;
    return [from, place + 1 < this.clips.length ? this.after(place)[0] : clip.end];
  }

  /** The clip gain at a moment in the clip at a place, dB, with what the hand does to it. */
  gain(place: number, seconds: number): number {
    const own = heldGain(this.clips[place]!);
    const [from, to] = this.hold(place);
    if (seconds < from && place > 0)
      return between(this.after(place - 1), seconds, heldGain(this.clips[place - 1]!), own);
    if (seconds > to && place + 1 < this.clips.length)
      return between(this.after(place), seconds, own, heldGain(this.clips[place + 1]!));
    return own;
  }

  /** The place of a clip, by its id and where it starts. */
  place({ id, start }: Clip): number {
    const place = firstPlace(this.clips.length, (i) => this.clips[i]!.start >= start);
    return this.clips[place]?.id === id ? place : -1;
  }
}

function between([from, to]: [number, number], at: number, before: number, after: number): number {
  if (at <= from) return before;
  return at >= to ? after : before + ((after - before) * (at - from)) / (to - from);
}
