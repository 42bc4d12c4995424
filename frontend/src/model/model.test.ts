import { describe, expect, it } from "vitest";
import type { Changed } from "../api/client";
import { worst } from "../frame/TrackBar";
import { worklist } from "./actions";
import { clip } from "./clip.testing";
import { commands, keyName } from "./commands";
import { gainAt, toPoints } from "./curve";
import { deviation, heldGain, isLevel, merge } from "./session";
import { fitWindow, hand, zoomWindow } from "./view";

const answer = (values: Partial<Changed>): Changed =>
  ({ tracks: [{ id: "t" }], clips: [], removed: [], ...values }) as unknown as Changed;

describe("an answer of the server", () => {
  const old = { t: [clip({ id: "a", start: 0, end: 1 }), clip({ id: "b", start: 1, end: 2 })] };

  it("replaces the clips that changed and keeps the others as they are", () => {
    const merged = merge(old, answer({ clips: [clip({ id: "b", start: 1, end: 2, gain: 3 })] }));
    expect(merged.t!.map((c) => c.gain)).toEqual([0, 3]);
    expect(merged.t![0]).toBe(old.t[0]);
  });

  it("puts new clips in their place in time and takes away those that are gone", () => {
    const cut = answer({ clips: [clip({ id: "c", start: 0.5, end: 1 })] });
    expect(merge(old, cut).t!.map((c) => c.id)).toEqual(["a", "c", "b"]);
    expect(merge(old, answer({ removed: ["a"] })).t!.map((c) => c.id)).toEqual(["b"]);
  });

  it("drops the clips of a track that is gone and keeps untouched tracks by reference", () => {
    const merged = merge({ ...old, u: [] }, answer({}));
    expect(Object.keys(merged)).toEqual(["t"]);
    expect(merged.t).toBe(old.t);
  });
});

describe("the worklist", () => {
  const clips = [
    clip({ id: "pause", before: null, after: null }),
    clip({ id: "level", start: 1, after: -18.5 }),
    clip({ id: "quiet", start: 2, after: -25 }),
    clip({ id: "out", start: 3, after: -40, left_out: true }),
    clip({ id: "loud", start: 4, after: -9 }),
  ];

  it("has every phrase by time, numbered, without the pauses", () => {
    const items = worklist(clips, -18, 1.5, "time");
    expect(items.map((i) => [i.number, i.clip.id])).toEqual([
      [1, "level"],
      [2, "quiet"],
      [3, "out"],
      [4, "loud"],
    ]);
  });

  it("has the worst first and what is left out last", () => {
    expect(worklist(clips, -18, 1.5, "worst").map((i) => i.clip.id)).toEqual(["loud", "quiet", "level", "out"]);
    expect(worklist(clips, -18, 1.5, "worst").map((i) => i.level)).toEqual([false, false, true, false]);
  });
});

describe("while the hand moves", () => {
  it("shows base plus the hand's delta, for what is held and not locked", () => {
    hand.drag = { ids: new Set(["a", "l"]), delta: 2.5 };
    expect(heldGain(clip({ id: "a", gain: 1 }))).toBe(3.5);
    expect(heldGain(clip({ id: "b", gain: 1 }))).toBe(1);
    expect(heldGain(clip({ id: "l", gain: 1, locked: true }))).toBe(1);
    expect(deviation(clip({ id: "a", after: -20 }), -18)).toBe(0.5);
    expect(deviation(clip({ id: "p", after: null }), -18)).toBeNull();
    hand.drag = { ids: new Set(), delta: 0 };
  });

  it("counts the edge of the tolerance as level", () => {
    expect(isLevel(1.5, 1.5)).toBe(true);
    expect(isLevel(-1.5, 1.5)).toBe(true);
    expect(isLevel(1.51, 1.5)).toBe(false);
  });
});

describe("the compiled gain", () => {
  const points = toPoints(new Float64Array([0, -3, 100, -3, 200, 1]));

  it("is linear in dB between points and keeps its ends", () => {
    expect([-50, 0, 50, 100, 150, 200, 999].map((x) => gainAt(points, x))).toEqual([-3, -3, -3, -3, -1, 1, 1]);
  });

  it("is nothing where there are no points", () => {
    expect(gainAt(toPoints(new Float64Array(0)), 5)).toBe(0);
  });
});

describe("the window", () => {
  it("stays within the recording", () => {
    expect(fitWindow(-5, 5, 60)).toEqual({ start: 0, end: 10 });
    expect(fitWindow(55, 65, 60)).toEqual({ start: 50, end: 60 });
    expect(fitWindow(0, 500, 60)).toEqual({ start: 0, end: 60 });
  });

  it("zooms around the pointer", () => {
    const zoomed = zoomWindow({ start: 10, end: 20 }, 0.5, 12, 60);
    expect(zoomed).toEqual({ start: 11, end: 16 });
    expect((12 - zoomed.start) / 5).toBeCloseTo(0.2);
    expect(zoomWindow({ start: 10, end: 20 }, 100, 12, 60)).toEqual({ start: 0, end: 60 });
    const least = zoomWindow({ start: 10, end: 10.06 }, 0.001, 10, 60);
    expect(least.end - least.start).toBeCloseTo(0.05);
  });
});

describe("keys", () => {
  const event = (key: string, more: Partial<KeyboardEvent> = {}) =>
    ({ key, code: "", shiftKey: false, altKey: false, ctrlKey: false, metaKey: false, ...more }) as KeyboardEvent;

  it("are named as in the table", () => {
    expect(keyName(event(" "))).toBe("Space");
    expect(keyName(event("d"))).toBe("D");
    expect(keyName(event(":", { code: "Period", shiftKey: true }))).toBe("Shift+.");
    expect(keyName(event(";", { code: "Comma", shiftKey: true }))).toBe("Shift+,");
    expect(keyName(event("ArrowUp", { altKey: true }))).toBe("Alt+Up");
    expect(keyName(event("Z", { shiftKey: true, metaKey: true }))).toBe("Shift+Mod+Z");
    expect(keyName(event("z", { ctrlKey: true }))).toBe("Mod+Z");
    expect(keyName(event("?", { shiftKey: true }))).toBe("?");
  });

  it("mean one thing each", () => {
    const table = commands(() => {});
    const keys = table.flatMap((command) => command.keys);
    expect(new Set(keys).size).toBe(keys.length);
    expect(new Set(table.map((command) => command.id)).size).toBe(table.length);
    expect(table.every((command) => command.keys.length > 0)).toBe(true);
  });
});

describe("the vial of a track", () => {
  it("shows the phrase that lies furthest out", () => {
    expect(worst([0.5, -4, 3])).toBe(-4);
    expect(worst([])).toBeNull();
  });
});
