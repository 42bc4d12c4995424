import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import type { Draft } from "./api/client";
import { clip } from "./model/clip.testing";
import { soundFiles } from "./model/server/soundFormats";
import { clock, db, levelUnit, plain, signed, span, time } from "./parts/format";
import { bubbleAt, Vial } from "./parts/Vial";
import { describe as words } from "./picture/Capsules";
import { ago, sessionName } from "./sessions/SessionsPage";
import { summary } from "./stages/PhrasesRule";

afterEach(cleanup);

describe("values", () => {
  it("have sign and unit", () => {
    expect(db(2.5)).toBe("+2.5 dB");
    expect(signed(-1.84)).toBe("−1.8");
    expect(signed(-0.04)).toBe("0.0");
    expect(plain(-23.44)).toBe("−23.4");
    expect(levelUnit("loudness")).toBe("LUFS");
    expect(levelUnit("rms")).toBe("dBFS RMS");
  });

  it("have times as m:ss.mmm", () => {
    expect(time(0)).toBe("0:00.000");
    expect(time(71.2345)).toBe("1:11.235");
    expect(time(59.9996)).toBe("1:00.000");
    expect(time(3600)).toBe("60:00.000");
    expect(clock(12.34)).toBe("0:12.3");
    expect(span(197.9)).toBe("3:17 min");
    expect(span(5400)).toBe("1.5 h");
  });
});

describe("the vial", () => {
  it("has its bubble between the marks within the tolerance, and off to the side of the deviation", () => {
    for (const tolerance of [0.5, 1.5, 3]) {
      expect(Math.abs(bubbleAt(tolerance, tolerance))).toBeLessThan(1 / 3);
      expect(bubbleAt(tolerance + 0.01, tolerance)).toBeGreaterThan(1 / 3);
      expect(bubbleAt(-tolerance - 0.01, tolerance)).toBeLessThan(-1 / 3);
    }
    expect(bubbleAt(0, 1.5)).toBe(0);
    expect(bubbleAt(6, 1.5)).toBeCloseTo(1);
    expect(bubbleAt(-40, 1.5)).toBeCloseTo(-1);
  });

  it("moves further the further it is off", () => {
    const places = [-8, -5, -2, -1, 0, 1, 2, 5].map((deviation) => bubbleAt(deviation, 1.5));
    expect([...places].sort((a, b) => a - b)).toEqual(places);
  });

  it("says what it shows", () => {
    render(<Vial deviation={-3.25} tolerance={1.5} />);
    expect(screen.getByRole("img", { name: "3.3 LU too quiet" })).toBeDefined();
    cleanup();
    render(<Vial deviation={1} tolerance={1.5} />);
    expect(screen.getByRole("img", { name: "level" })).toBeDefined();
    cleanup();
    render(<Vial deviation={null} tolerance={1.5} />);
    expect(screen.getByRole("img", { name: "no level" })).toBeDefined();
  });
});

describe("words", () => {
  it("describe a phrase", () => {
    const it = clip({ id: "a", phrase_start: 31.2, phrase_end: 34.9, gain: 2, locked: true });
    expect(words(it, 12, -3.4, 1.5, "loudness")).toBe(
      "Phrase 12, 0:31.200 to 0:34.900, 3.4 LU below target, gain +2.0 dB, locked",
    );
    expect(words(clip({ id: "a" }), 1, 0.3, 1.5, "rms")).toContain("level, gain 0.0 dB");
  });

  it("sum up a draft", () => {
    const draft = { level: 3, count: 4, moves: 2, items: [], target: -18, base: 0, by_peaks: 0, peaks: 0, deepest: 0 };
    const reasons = { ceiling: 1, "to target": 2, level: 1 };
    expect(summary({ ...draft, freeing: null, stamp: "", reasons } as Draft)).toBe(
      "3 of 4 would be level. 2 reach the target, 1 level already, 1 limited by the ceiling.",
    );
  });

  it("say when a session was touched", () => {
    const now = new Date("2026-03-14T12:00:00Z").getTime();
    expect(ago("2026-03-14T11:59:30Z", now)).toBe("just now");
    expect(ago("2026-03-14T11:30:00Z", now)).toBe("30 min ago");
    expect(ago("2026-03-14T07:00:00Z", now)).toBe("5 h ago");
  });

  it("name a session after its folder or its first file", () => {
    expect(sessionName([new File([], "take one.wav")])).toBe("take one");
    const inFolder = Object.assign(new File([], "a.wav"), { path: "/Audio guide/a.wav" });
    expect(sessionName([inFolder])).toBe("Audio guide");
    expect(sessionName([])).toBe("New session");
  });

  it("take sound files out of a folder, and a single file as it is", () => {
    const files = ["a.WAV", "notes.txt", "b.flac", ".DS_Store"].map((name) => new File([], name));
    const formats = [{ name: "any", words: ["ANY"], common: ["ANY"], endings: [".wav", ".flac"], bits: [] }];
    expect(soundFiles(files, formats).map((f) => f.name)).toEqual(["a.WAV", "b.flac"]);
    expect(soundFiles([files[1]!], formats)).toHaveLength(1);
  });
});
