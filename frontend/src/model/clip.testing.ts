/** A clip for tests: what is not given is ordinary. */
import type { Clip } from "../api/client";

export function clip(values: Partial<Clip> & { id: string }): Clip {
  return {
    track: "t",
    start: 0,
    end: 1,
    gain: 0,
    phrase_start: 0.2,
    phrase_end: 0.8,
    before: -20,
    after: -20,
    peak: -6,
    room_tone: -60,
    confidence: 1,
    locked: false,
    left_out: false,
    by_hand: false,
    reference: false,
    label: "",
    ...values,
  };
}
