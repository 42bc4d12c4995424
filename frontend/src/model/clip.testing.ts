/** A clip and a mark for tests: what is not given is ordinary. */
import type { Clip, Mark } from "../api/client";

export function mark(values: Partial<Mark> & { id: string }): Mark {
  return {
    track: "t",
    kind: "breath",
    start: 0.1,
    end: 0.2,
    level: -50,
    confidence: 1,
    excess: null,
    holds: [],
    before: -20,
    after: -28,
    lisp: false,
    on: true,
    keep: "rule",
    reason: "rule",
    by_hand: false,
    made: false,
    moved: false,
    depth: -8,
    dip_start: 0.1,
    dip_end: 0.2,
    ramp_in: 0.03,
    ramp_out: 0.03,
    notch: false,
    ...values,
  };
}

export function clip(values: Partial<Clip> & { id: string }): Clip {
  return {
    track: "t",
    recording: "",
    shift: 0,
    start: 0,
    end: 1,
    gain: 0,
    phrase_start: 0.2,
    phrase_end: 0.8,
    before: -20,
    after: -20,
    wish: 0,
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
