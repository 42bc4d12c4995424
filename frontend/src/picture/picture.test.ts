import { describe, expect, it, vi } from "vitest";
import { clip } from "../model/clip.testing";
import { axis, chartRange, clipIndexAt, GUTTER, meets, scale, tickStep, visible } from "./axis";
import { axisLock, snap, startDrag } from "./hands";
import { describeClip } from "./Lanes";
import { pull } from "./snapping";
import { levelFor } from "./tiles";

const tiled = Array.from({ length: 50 }, (_, i) => clip({ id: `c${i}`, start: i, end: i + 1 }));

describe("the time axis", () => {
  it("goes from seconds to pixels and back", () => {
    const a = axis({ start: 10, end: 20 }, GUTTER + 1000);
    expect(a.x(10)).toBe(GUTTER);
    expect(a.x(15)).toBe(GUTTER + 500);
    expect(a.seconds(a.x(13.37))).toBeCloseTo(13.37, 9);
  });

  it("finds the clip at a moment and the clips in a window", () => {
    expect(clipIndexAt(tiled, 0)).toBe(0);
    expect(clipIndexAt(tiled, 7.5)).toBe(7);
    expect(clipIndexAt(tiled, 8)).toBe(8);
    expect(clipIndexAt(tiled, 500)).toBe(50);
    expect(visible(tiled, { start: 3.5, end: 6 }).map((c) => c.id)).toEqual(["c3", "c4", "c5"]);
    expect(visible([], { start: 0, end: 6 })).toEqual([]);
  });

  it("knows where there is silence between clips", () => {
    const [one, next, apart] = [tiled[0]!, tiled[1]!, clip({ id: "x", start: 1.4, end: 2 })];
    expect(meets(one, next)).toBe(true);
    expect(meets(one, apart)).toBe(false);
    expect(clipIndexAt([one, apart], 1.2)).toBe(1);
  });

  it("says of a clip where it lies and where it was recorded", () => {
    const words = describeClip(clip({ id: "c", start: 31.2, end: 34.9, gain: 2, shift: 3.25, label: "and then" }), 12);
    expect(words).toContain("Clip 12, 0:31.200 to 0:34.900, gain +2.0 dB");
    expect(words).toContain("“and then”, 3.250 s later than recorded");
    expect(describeClip(clip({ id: "c", shift: -0.5, locked: true }), 1)).toContain(
      "0.500 s earlier than recorded, locked",
    );
  });

  it("has ticks at round times, far enough apart", () => {
    for (const perPixel of [0.00001, 0.001, 0.02, 0.5, 4, 50]) {
      expect(tickStep(perPixel, 84) / perPixel).toBeGreaterThanOrEqual(84 * (perPixel > 40 ? 0 : 1));
    }
    expect(tickStep(0.03, 84)).toBe(5);
  });
});

describe("the level chart", () => {
  it("always has room for the band and grows with what lies outside", () => {
    expect(chartRange([], -18)).toEqual({ low: -9, high: 7.5 });
    const far = chartRange([clip({ id: "a", before: -40, after: -5 })], -18);
    expect(far.low).toBe(-23.5);
    expect(far.high).toBe(14.5);
    expect(chartRange([clip({ id: "a", before: -120, after: -20 })], -18).low).toBe(-30);
  });

  it("has its scale upside up", () => {
    const s = scale(-10, 10, 20, 120);
    expect(s.y(10)).toBe(20);
    expect(s.y(-10)).toBe(120);
    expect(s.y(0)).toBe(70);
    expect(s.perPixel).toBe(0.2);
  });
});

describe("the waveform", () => {
  it("takes the coarsest level that still has a bin for every pixel", () => {
    expect(levelFor(1 / 1600)).toEqual({ level: 0, rate: 1600 });
    expect(levelFor(1 / 400)).toEqual({ level: 1, rate: 400 });
    expect(levelFor(1 / 399).level).toBe(1);
    expect(levelFor(4).level).toBe(6);
    for (const perPixel of [0.0001, 0.003, 0.05, 1]) {
      const { level, rate } = levelFor(perPixel);
      if (level > 0) expect(perPixel * rate).toBeGreaterThanOrEqual(1);
    }
  });
});

describe("the hand", () => {
  it("keeps to the axis of its first movement", () => {
    const lock = axisLock();
    expect(lock(1, -5)).toBe("y");
    expect(lock(500, -5)).toBe("y");
    expect(axisLock()(9, 2)).toBe("x");
  });

  it("is pulled to the nearest place within reach", () => {
    expect(snap(10.2, [10, 11], 0.5)).toBe(10);
    expect(snap(10.6, [10, 11], 0.5)).toBe(11);
    expect(snap(10.5, [9, 12], 0.5)).toBe(10.5);
  });

  it("is pulled softly: held at a place, slowed down beside it, free beyond, and never backwards", () => {
    expect([10, 10.4, 10.5].map((at) => pull(at, 10, 0.5))).toEqual([10, 10, 10]);
    expect(pull(10.75, 10, 0.5)).toBe(10.5);
    expect(pull(9.25, 10, 0.5)).toBe(9.5);
    expect([11, 12].map((at) => pull(at, 10, 0.5))).toEqual([11, 12]);
    const way = Array.from({ length: 400 }, (_, i) => pull(8 + i / 100, 10, 0.5));
    expect(way.every((at, i) => i === 0 || at >= way[i - 1]!)).toBe(true);
  });

  const pointer = (type: string, x: number, y: number) =>
    new MouseEvent(type, { clientX: x, clientY: y }) as PointerEvent;
  const begin = () => {
    const drag = { move: vi.fn(), end: vi.fn(), cancel: vi.fn(), click: vi.fn() };
    startDrag(pointer("pointerdown", 100, 100), drag);
    return drag;
  };

  it("clicks when it did not move and drags when it did", () => {
    const click = begin();
    window.dispatchEvent(pointer("pointermove", 101, 101));
    window.dispatchEvent(pointer("pointerup", 101, 101));
    expect([click.click, click.move, click.end].map((f) => f.mock.calls.length)).toEqual([1, 0, 0]);
    const drag = begin();
    window.dispatchEvent(pointer("pointermove", 104, 90));
    window.dispatchEvent(pointer("pointerup", 104, 90));
    expect(drag.move.mock.calls[0]!.slice(0, 2)).toEqual([4, -10]);
    expect(drag.end).toHaveBeenCalledOnce();
    expect(drag.click).not.toHaveBeenCalled();
  });

  it("takes a drag back at Escape and hears nothing more", () => {
    const drag = begin();
    window.dispatchEvent(pointer("pointermove", 104, 90));
    window.dispatchEvent(new KeyboardEvent("keydown", { key: "Escape" }));
    window.dispatchEvent(pointer("pointermove", 150, 90));
    window.dispatchEvent(pointer("pointerup", 150, 90));
    expect(drag.cancel).toHaveBeenCalledOnce();
    expect(drag.move).toHaveBeenCalledOnce();
    expect(drag.end).not.toHaveBeenCalled();
  });
});
