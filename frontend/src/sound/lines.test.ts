import { describe, expect, it } from "vitest";
import { type Line, slopes, stairs, total } from "./lines";

/** A line just before and just after a moment, by looking along it. */
function around(line: Line, at: number): [number, number] {
  const value = (t: number) => {
    const past = line.findIndex(([when]) => when > t);
    if (past === 0) return line[0]![1];
    if (past < 0) return line.at(-1)![1];
    const [[t0, a], [t1, b]] = [line[past - 1]!, line[past]!];
    return a + ((b - a) * (t - t0)) / (t1 - t0);
  };
  return [value(at - 1e-9), value(at + 1e-9)];
}

describe("lines over each other", () => {
  const step = stairs([{ start: 1, end: 3, by: 2 }]);
  const ramp: Line = [
    [0, 0],
    [2, 4],
    [4, 0],
  ];

  it("add up at every moment, with their steps", () => {
    const both = total([step, ramp]);
    for (const at of [-1, 0, 0.5, 1, 1.5, 2, 2.9, 3, 3.5, 4, 9]) {
      const wanted = [0, 1].map((side) => around(step, at)[side]! + around(ramp, at)[side]!);
      for (const side of [0, 1]) expect(around(both, at)[side]).toBeCloseTo(wanted[side]!, 6);
    }
    expect([...both].sort((a, b) => a[0] - b[0])).toEqual(both);
  });

  it("are the one that there is, or nothing", () => {
    expect(total([[], ramp, []])).toEqual(ramp);
    expect(total([])).toEqual([]);
    expect(stairs([{ start: 1, end: 2, by: 0 }])).toEqual([]);
  });

  it("go on at both of their ends", () => {
    const high: Line = [
      [1, 5],
      [2, 5],
    ];
    expect(around(total([high, step]), 9)).toEqual([5, 5]);
  });

  it("have ways to spans and back from them, and neighbours share theirs", () => {
    const line = slopes([
      { from: [1, 2], to: [4, 6], by: 3 },
      { from: [4, 6], to: [8, 8], by: -5 },
    ]);
    expect(line.map(([at]) => at)).toEqual([1, 2, 4, 6, 8, 8]);
    const wanted = [0, 1.5, 3, 3, -1, -5, -5, 0];
    [0.5, 1.5, 2, 3, 5, 6, 7.9, 8.1].forEach((at, i) => {
      expect(around(line, at)[0]).toBeCloseTo(wanted[i]!, 6);
    });
  });

  it("of spans that overlap are as high as all of them", () => {
    const two = stairs([
      { start: 0, end: 3, by: -6 },
      { start: 2, end: 4, by: -3 },
      { start: 3, end: 5, by: 1 },
    ]);
    expect([1, 2.5, 3.5, 4.5, 6].map((at) => around(two, at)[0])).toEqual([-6, -9, -2, 1, 0]);
    const many = Array.from({ length: 20_000 }, (_, i) => ({ start: i / 10, end: i / 10 + 0.15, by: -1 }));
    expect(around(stairs(many), 1000.12)[0]).toBe(-2);
  });
});
