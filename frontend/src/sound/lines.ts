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

/** A span that is moved by some dB, and from when to when it gets there and back. */
export interface Way {
  from: [number, number];
  to: [number, number];
  by: number;
}

/** A line that is at some dB in spans, at the sum of them where they overlap, and at 0 elsewhere. O(n log n). */
export function stairs(spans: { start: number; end: number; by: number }[]): Line {
  return slopes(spans.map(({ start, end, by }) => ({ from: [start, start], to: [end, end], by })));
}

/** The same of spans with ways to them and back from them. O(n log n). */
export function slopes(spans: Way[]): Line {
  // at every moment: by how much the line steps there, and by how much its slope changes
  const turns = new Map<number, [number, number]>();
  const turn = (at: number, step: number, slope: number) => {
    const known = turns.get(at) ?? [0, 0];
    turns.set(at, [known[0] + step, known[1] + slope]);
  };
  const go = ([a, b]: [number, number], by: number) => {
    if (b <= a) return turn(a, by, 0);
    turn(a, 0, by / (b - a));
    turn(b, 0, -by / (b - a));
  };
  for (const { from, to, by } of spans) {
    if (by === 0 || from[0] >= to[1]) continue;
    go(from, by);
    go(to, -by);
  }
  let [last, now, slope] = [0, 0, 0];
  return [...turns.keys()]
    .sort((a, b) => a - b)
    .flatMap((at, i): Line => {
      const before = now + slope * (at - last);
      const [step, change] = turns.get(at)!;
      now = i === turns.size - 1 ? 0 : before + step;
      slope += change;
      last = at;
      return step
        ? [
            [at, before],
            [at, now],
          ]
        : [[at, now]];
    });
}
