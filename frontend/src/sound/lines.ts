/** Lines in seconds and dB: linear between their points, going on at both ends; two points at one moment are a step. */
import { firstPlace } from "../parts/search";

export type Line = [number, number][];

/** What a line is just before a moment, and just after it, dB. */
function around(line: Line, at: number): [number, number] {
  if (line.length === 0) return [0, 0];
  const first = firstPlace(line.length, (i) => line[i]![0] >= at);
  const past = firstPlace(line.length, (i) => line[i]![0] > at);
  const before = first === 0 ? line[0]![1] : first < past ? line[first]![1] : between(line, past, at);
  const after = past === line.length ? line.at(-1)![1] : first < past ? line[past - 1]![1] : between(line, past, at);
  return [before, after];
}

function between(line: Line, past: number, at: number): number {
  if (past === 0) return line[0]![1];
  if (past === line.length) return line.at(-1)![1];
  const [[t0, a], [t1, b]] = [line[past - 1]!, line[past]!];
  return a + ((b - a) * (at - t0)) / (t1 - t0);
}

/** Several lines over each other. O(points of all of them, times lines). */
export function total(lines: Line[]): Line {
  const there = lines.filter((line) => line.length > 0);
  if (there.length < 2) return there[0] ?? [];
  const moments = [...new Set(there.flatMap((line) => line.map(([at]) => at)))].sort((a, b) => a - b);
  return moments.flatMap((at): Line => {
    let [before, after] = [0, 0];
    for (const line of there) {
      const [a, b] = around(line, at);
      before += a;
      after += b;
    }
    return before === after
      ? [[at, before]]
      : [
          [at, before],
          [at, after],
        ];
  });
}

/** A line that is at some dB in spans, at the sum of them where they overlap, and at 0 elsewhere. O(n log n). */
export function stairs(spans: { start: number; end: number; by: number }[]): Line {
  const steps = new Map<number, number>();
  for (const { start, end, by } of spans) {
    if (by === 0 || start >= end) continue;
    steps.set(start, (steps.get(start) ?? 0) + by);
    steps.set(end, (steps.get(end) ?? 0) - by);
  }
  let now = 0;
  return [...steps.keys()]
    .sort((a, b) => a - b)
    .flatMap((at, i): Line => {
      const before = now;
      now = i === steps.size - 1 ? 0 : now + steps.get(at)!;
      return [
        [at, before],
        [at, now],
      ];
    });
}
