import { describe, expect, it } from "vitest";
import type { Changed, Clip, Mark, Track } from "../api/client";
import { keyName } from "../parts/keyNames";
import { worst } from "../parts/Vial";
import { clip, mark } from "./clip.testing";
import { commands } from "./commands/commands";
import { markList } from "./hand/details";
import { chosenFrom } from "./hand/timeline";
import { worklist } from "./hand/worklist";
import { gainAt, toPoints } from "./heard/heard";
import { isHeard } from "./heard/mix";
import { deviation, heldDepth, heldEdge, heldGain, isLevel, marksIn, merge, revalue } from "./server/session";
import { fitWindow, hand, zoomWindow } from "./view/view";

const answer = (values: Partial<Changed>): Changed =>
  ({ tracks: [{ id: "t" }], clips: [], marks: [], whole: [], removed: [], ...values }) as unknown as Changed;

describe("an answer of the server", () => {
  const old = { t: [clip({ id: "a", start: 0, end: 1 }), clip({ id: "b", start: 1, end: 2 })] };

  it("replaces the clips that changed and keeps the others as they are", () => {
    const merged = merge(old, [clip({ id: "b", start: 1, end: 2, gain: 3 })], {}, answer({}));
    expect(merged.t!.map((c) => c.gain)).toEqual([0, 3]);
    expect(merged.t![0]).toBe(old.t[0]);
  });

  it("puts new clips in their place in time and takes away those that are gone", () => {
    expect(merge(old, [clip({ id: "c", start: 0.5, end: 1 })], {}, answer({})).t!.map((c) => c.id)).toEqual([
      "a",
      "c",
      "b",
    ]);
    expect(merge(old, [], { t: ["a"] }, answer({})).t!.map((c) => c.id)).toEqual(["b"]);
  });

  it("drops the clips of a track that is gone and keeps untouched tracks by reference", () => {
    const merged = merge({ ...old, u: [] }, [], {}, answer({}));
    expect(Object.keys(merged)).toEqual(["t"]);
    expect(merged.t).toBe(old.t);
  });

  it("leaves nothing old of a track that it holds whole", () => {
    const found = [mark({ id: "ess.4800", kind: "ess" })];
    expect(merge({ t: [mark({ id: "old" })] }, found, {}, answer({ whole: ["t"] })).t).toEqual(found);
    expect(merge({ t: [mark({ id: "old" })] }, [], {}, answer({ whole: ["t"] })).t).toEqual([]);
  });
});

describe("values that come column by column", () => {
  it("go into what they belong to, and leave everything else the very same", () => {
    const old = { t: [mark({ id: "ess.1" }), mark({ id: "ess.2" })], u: [mark({ id: "ess.1" })] };
    const columns = {
      t: {
        ids: "ess.9 .2",
        depth: [-1, -4],
        flags: [0, 3],
        names: ["on", "lisp"],
        reason: [0, 1],
        reasons: ["excess", "at most"],
      },
    };
    const fresh = revalue(old, columns);
    expect(fresh.t!.map((m) => [m.depth, m.reason, m.lisp])).toEqual([
      [old.t[0]!.depth, old.t[0]!.reason, old.t[0]!.lisp],
      [-4, "at most", true],
    ]);
    expect(fresh.t![0]).toBe(old.t[0]);
    expect(fresh.u).toBe(old.u);
  });
});

describe("marks that come column by column", () => {
  it("are the marks that they would be one by one", () => {
    const all = [
      mark({ id: "ess.1", track: "t", kind: "ess", excess: 1.5 }),
      mark({ id: "ess.2", track: "t", kind: "ess", start: 1, on: true, made: true, depth: -3 }),
      mark({ id: "gap.7", track: "t", kind: "gap", start: 2, holds: ["clicks", "bleed"], keep: "out", lisp: true }),
      mark({
        id: "kept",
        track: "t",
        kind: "gap",
        start: 3,
        reason: "silence",
        by_hand: true,
        moved: true,
        notch: true,
      }),
    ];
    const numbers = ["start", "end", "level", "confidence", "excess", "before", "after", "depth"] as const;
    const edges = ["dip_start", "dip_end", "ramp_in", "ramp_out"] as const;
    const names = ["lisp", "on", "by_hand", "made", "moved", "notch"] as const;
    const words = ["kind", "keep", "reason", "holds"] as const;
    const said = (one: Mark, name: (typeof words)[number]) => (name === "holds" ? one.holds.join(" ") : one[name]);
    const kinds = (name: (typeof words)[number]) => [...new Set(all.map((one) => said(one, name)))];
    const columns = {
      ids: "ess.1 .2 gap.7 kept",
      numbers: Object.fromEntries([...numbers, ...edges].map((name) => [name, all.map((one) => one[name])])),
      flags: all.map((one) => names.reduce((flags, name, bit) => flags | (Number(one[name]) << bit), 0)),
      names: [...names],
      words: Object.fromEntries(words.map((name) => [name, all.map((one) => kinds(name).indexOf(said(one, name)))])),
      said: Object.fromEntries(words.map((name) => [name, kinds(name)])),
    };
    expect(marksIn("t", columns)).toEqual(all);
  });
});

describe("dips in the hand", () => {
  const breath = mark({ id: "breath.1", depth: -8, dip_start: 1, ramp_in: 0.03 });

  it("are deeper by the hand's movement, never above 0 dB", () => {
    hand.dips = { ids: new Set(["breath.1"]), delta: -2.5 };
    expect(heldDepth(breath)).toBe(-10.5);
    hand.dips = { ids: new Set(["breath.1"]), delta: 12 };
    expect(heldDepth(breath)).toBe(0);
    hand.dips = { ids: new Set(), delta: 0 };
    expect(heldDepth(breath)).toBe(-8);
  });

  it("follow a rule that is being tried, and an edge that is being moved", () => {
    hand.trial = new Map([["breath.1", -3]]);
    expect(heldDepth(breath)).toBe(-3);
    hand.trial = null;
    hand.edge = { mark: "breath.1", values: { dip_start: 0.9 } };
    expect(heldEdge(breath, "dip_start")).toBe(0.9);
    expect(heldEdge(breath, "ramp_in")).toBe(0.03);
    hand.edge = null;
  });
});

describe("the worklist of details", () => {
  const every = new Set(["breath", "ess", "knock", "gap", "dip"]);
  const marks = [
    mark({ id: "faint breath", start: 1, after: -30 }),
    mark({ id: "harsh ess", start: 2, kind: "ess", after: 7 }),
    mark({ id: "quiet gap", start: 3, kind: "gap", after: -75 }),
    mark({ id: "lisp", start: 4, kind: "ess", after: -6, lisp: true }),
  ];

  it("has what may lisp first, then what stands out most", () => {
    const ids = markList(marks, every, "worst").map((m) => m.id);
    expect(ids).toEqual(["lisp", "harsh ess", "faint breath", "quiet gap"]);
  });

  it("shows only the kinds that are wanted, by time if asked", () => {
    expect(markList(marks, new Set(["ess"]), "time").map((m) => m.id)).toEqual(["harsh ess", "lisp"]);
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
    // what is done once in a while is found by name only
    const keyless = table.filter((command) => command.keys.length === 0);
    expect(keyless.map((command) => command.id)).toEqual([
      "find-phrases",
      "find-details",
      "track-up",
      "track-down",
      "track-copy",
    ]);
  });
});

describe("the vial of a track", () => {
  it("shows the phrase that lies furthest out", () => {
    expect(worst([0.5, -4, 3])).toBe(-4);
    expect(worst([])).toBeNull();
  });
});

describe("takes", () => {
  it("a clip of a recording that is another take's was chosen from there", () => {
    const takes = [
      { number: 1, name: "Low", recordings: ["", "x"] },
      { number: 2, name: "High", recordings: ["y"] },
    ];
    const track = { take: 1, takes } as unknown as Track;
    const of = (recording: string) => ({ recording }) as unknown as Clip;
    expect([of(""), of("y"), of("x"), of("unknown")].map((one) => chosenFrom(track, 1, one))).toEqual([
      null,
      "High",
      null,
      null,
    ]);
    expect(chosenFrom(track, 2, of(""))).toBe("Low");
  });

  it("keys of lanes have names", () => {
    const key = { shiftKey: true, altKey: false, ctrlKey: false, metaKey: false, code: "" };
    expect(keyName({ ...key, key: "ArrowLeft" })).toBe("Shift+Left");
    const table = commands(() => {});
    const keys = table.flatMap((command) => command.keys);
    expect(new Set(keys).size).toBe(keys.length);
  });
});

describe("which tracks are heard", () => {
  const track = (id: string, values: Partial<Track> = {}) => ({ id, mute: false, solo: false, ...values }) as Track;
  const heard = (tracks: Track[], alone = false) =>
    tracks.filter((one) => isHeard(one, tracks, alone, "b")).map((one) => one.id);

  it("all of them, but those that are muted", () => {
    expect(heard([track("a"), track("b", { mute: true }), track("c")])).toEqual(["a", "c"]);
  });
  it("those that are soloed, if any is, and of them none that is muted", () => {
    expect(heard([track("a", { solo: true }), track("b"), track("c", { solo: true, mute: true })])).toEqual(["a"]);
  });
  it("alone, the one in focus, whatever is muted or soloed", () => {
    expect(heard([track("a", { solo: true }), track("b", { mute: true })], true)).toEqual(["b"]);
  });
});
