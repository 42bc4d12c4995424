/** Who follows a track hears what is done to it at once, until it is in the gain of both. */
import { beforeEach, describe, expect, it, vi } from "vitest";
import type { Track } from "../api/client";

const held = new Map<string, [number, number][]>();
vi.mock("../sound/engine", () => ({
  engine: {
    hold: (track: string, line: [number, number][]) => held.set(track, line),
    setGain: (track: Track, _: unknown, line: [number, number][]) => held.set(track.id, line),
  },
}));

import { forgetGains, gainCame, hearEdit, hearHand, wasAnswered, wasDropped } from "./server/ear";
import { useSession } from "./server/session";

const track = (id: string, follows: string | null, gain_key: string) => ({ id, follows, gain_key }) as Track;
const points = { at: new Float64Array(0), db: new Float64Array(0) };
const line: [number, number][] = [
  [1, 0],
  [1, 3],
  [2, 3],
  [2, 0],
];
const turn = () => new Promise((done) => setTimeout(done));
const tracks = (key: string) => [
  track("boom", null, key),
  track("lapel", "boom", `${key} of lapel`),
  track("other", null, "its"),
];

beforeEach(() => {
  held.clear();
  forgetGains();
  useSession.setState({ id: "s", header: { tracks: tracks("old"), revision: 1 } as never });
  for (const one of tracks("old")) gainCame(one, "all", points, 1);
  held.clear();
});

describe("who follows", () => {
  it("hears what the hand does to its leader, and no more when it lets go", async () => {
    hearHand({ track: "boom", layer: "clip", line });
    await turn();
    expect([held.get("boom"), held.get("lapel"), held.get("other")]).toEqual([line, line, undefined]);
    hearHand(null);
    await turn();
    expect([held.get("boom"), held.get("lapel")]).toEqual([[], []]);
    // its own trim is its own
    hearHand({ track: "lapel", layer: "trim", line });
    await turn();
    expect([held.get("boom"), held.get("lapel")]).toEqual([[], line]);
  });

  it("hears an edit of its leader until its own gain has it, whichever comes first", async () => {
    const one = hearEdit({ track: "boom", layer: "trim", line });
    await turn();
    expect([held.get("boom"), held.get("lapel")]).toEqual([line, line]);
    wasAnswered(one, tracks("new"), 2);
    gainCame(track("boom", null, "new"), "all", points, 2);
    await turn();
    expect([held.get("boom"), held.get("lapel")]).toEqual([[], line]);
    gainCame(track("lapel", "boom", "new of lapel"), "all", points, 2);
    expect(held.get("lapel")).toEqual([]);
  });

  it("hears it no more where it was refused, or changed nothing", async () => {
    wasDropped(hearEdit({ track: "boom", layer: "clip", line }));
    await turn();
    expect([held.get("boom"), held.get("lapel")]).toEqual([[], []]);
    wasAnswered(hearEdit({ track: "boom", layer: "clip", line }), tracks("old"), 2);
    await turn();
    expect([held.get("boom"), held.get("lapel")]).toEqual([[], []]);
  });
});
