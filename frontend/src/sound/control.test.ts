/** Controllers: garbage, floods, pairs of seven bits, touch and pick-up. Bytes are those of the MIDI 1.0 specification. */
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { AS_IT_COMES, type Binding, Control, type Grip, REST, read } from "./control";

const CONTROL = 0xb0;
const NOTE = 0x90;
const TOUCHED: Binding = { ...AS_IT_COMES, touch: 104 };

class Hand implements Grip {
  did: string[] = [];
  db = -2;
  hold = () => void this.did.push("hold");
  move = (by: number) => void this.did.push(by.toFixed(1));
  letGo = () => void this.did.push("let go");
  now = () => ({ db: this.db, low: -20, high: 6 });
}

let hand: Hand;
let control: Control;
const send = (binding: Binding, ...bytes: number[]) => {
  for (const heard of read(bytes)) control.hear(heard, binding);
};
/** The seven bits at which a fader stands at some dB. */
const at = (db: number) => Math.round(((db + 20) / 26) * 127);

beforeEach(() => {
  vi.useFakeTimers();
  hand = new Hand();
  control = new Control(hand);
});
afterEach(() => vi.useRealTimers());

test("what is cut off, unknown or garbage is left out", () => {
  expect(read([])).toEqual([]);
  expect(read([CONTROL, 7])).toEqual([]);
  expect(read([0xf0, 1, 2, 3, 0xf7, 0xfe, 0xff])).toEqual([]);
  expect(read([CONTROL, 200, 5, 99, 99])).toEqual([]);
  expect(read([3, 4, CONTROL | 2, 7, 64, 0x12])).toEqual([{ kind: "control", channel: 2, number: 7, value: 64 }]);
  expect(read([0xe1, 0, 64, NOTE, 104, 0])).toEqual([
    { kind: "bend", channel: 1, value: 8192 },
    { kind: "note", channel: 0, number: 104, on: false },
  ]);
  const random = Array.from({ length: 4096 }, (_, i) => (i * 7919 + ((i * i) % 251)) & 255);
  for (const heard of read(random)) control.hear(heard, AS_IT_COMES);
  for (const by of hand.did.filter((what) => !/hold|let go/.test(what)))
    expect(Math.abs(Number(by))).toBeLessThanOrEqual(26);
});

test("with a touch the hand is moved from where it is, wherever the fader stands", () => {
  send(TOUCHED, CONTROL, 7, 127);
  expect(hand.did).toEqual([]);
  send(TOUCHED, NOTE, 104, 127, CONTROL, 7, 127 - 10, CONTROL, 7, 127 - 20);
  expect(hand.did).toEqual(["hold", "-2.0", "-4.1"]);
  send(TOUCHED, NOTE, 104, 0, CONTROL, 7, 30);
  expect(hand.did.slice(3)).toEqual(["let go"]);
});

test("without a touch nothing happens until it passes the value that is heard, which is shown", () => {
  send(AS_IT_COMES, CONTROL, 7, at(-12), CONTROL, 7, at(-8));
  expect(hand.did).toEqual([]);
  expect(control.waitsAt).toBeCloseTo(-8, 0);
  send(AS_IT_COMES, CONTROL, 7, at(-1));
  expect(control.waitsAt).toBeNull();
  expect(hand.did).toEqual(["hold", "1.0"]);
  send(AS_IT_COMES, CONTROL, 7, at(3));
  expect(Number(hand.did.at(-1))).toBeCloseTo(5, 0);
  vi.advanceTimersByTime(REST + 1);
  expect(hand.did.at(-1)).toBe("let go");
  // it has to be picked up again where the lane is then
  hand.db = -2;
  send(AS_IT_COMES, CONTROL, 7, at(4));
  expect(control.waitsAt).toBeCloseTo(4, 0);
});

test("a coarse and a fine half are one value of fourteen bits", () => {
  send(TOUCHED, CONTROL, 7, 64, CONTROL, 39, 0, NOTE, 104, 127, CONTROL, 7, 64, CONTROL, 39, 127);
  expect(hand.did.at(-1)).toBe(((127 / 16383) * 26).toFixed(1));
  send({ ...TOUCHED, control: "bend" }, 0xe0, 0, 64);
  expect(hand.did.filter((what) => what === "hold")).toHaveLength(1);
});

test("of other channels and other controls nothing is taken", () => {
  const bound: Binding = { device: null, channel: 3, control: 20, touch: null };
  send(bound, CONTROL, 20, at(-2), CONTROL | 3, 21, at(-2), 0xe3, 0, 64, NOTE | 3, 60, 127);
  expect(hand.did).toEqual([]);
  send(bound, CONTROL | 3, 20, at(-2));
  expect(hand.did[0]).toBe("hold");
});

test("pulled out in the middle of a gesture it counts as let go", () => {
  send(TOUCHED, NOTE, 104, 127, CONTROL, 7, 60);
  control.gone();
  expect(hand.did.at(-1)).toBe("let go");
  send(TOUCHED, CONTROL, 7, 90);
  expect(hand.did.at(-1)).toBe("let go");
});
