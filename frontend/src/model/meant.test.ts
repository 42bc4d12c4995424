/** What was meant is what is done, and what is heard stays, whatever is still on its way. */
import { beforeEach, describe, expect, it, vi } from "vitest";

const played = vi.hoisted(() => ({ tracks: [] as { id: string; take: number }[], gains: [] as string[] }));
const sent = vi.hoisted(() => ({
  moves: [] as object[],
  points: [] as object[],
  accepted: [] as string[],
  drafts: [] as { rule: object | undefined; come: (draft: never) => void }[],
  answers: [] as { come: (value: never) => void; answer: Promise<never> }[],
}));
vi.mock("../parts/messages", () => ({ complain: () => {}, tell: () => {} }));
vi.mock("../sound/engine", () => ({
  engine: new Proxy(
    {
      seconds: 0,
      setTracks: (tracks: typeof played.tracks) => {
        played.tracks = tracks;
      },
      setGain: ({ id, take }: { id: string; take: number }) => played.gains.push(`${id} ${take}`),
    } as Record<string, unknown>,
    { get: (own, name: string) => own[name] ?? (() => {}) },
  ),
}));
vi.mock("../api/client", () => ({
  api: new Proxy(
    {
      moveClips: (_: string, body: object) => {
        sent.moves.push(body);
        return answered();
      },
      changePoints: (_: string, body: object) => {
        sent.points.push(body);
        return answered();
      },
      putPoint: answered,
      changeSession: answered,
      draft: (_: string, __: unknown, rule: object | undefined) => {
        const draft = later<never>();
        sent.drafts.push({ rule, come: draft.come });
        return draft.answer;
      },
      acceptDraft: (_: string, body: { stamp: string }) => {
        sent.accepted.push(body.stamp);
        return answered();
      },
      heard: () => Promise.resolve({ gains: [[], [], [], [], [], []], meter: [], drawn: { lanes: drawn, passes: [] } }),
    } as Record<string, unknown>,
    { get: (own, name: string) => own[name] ?? (() => new Promise(() => {})) },
  ),
}));

import { api } from "../api/client";
import { whole as answerOf, turn } from "./answers.testing";
import { clip } from "./clip.testing";
import { acceptDraft, makeDraft, tryRule } from "./hand/gain";
import { movePoints, movePointTo, putPoint, selectPoints } from "./hand/ride";
import { moveClips, moveClipTo } from "./hand/timeline";
import { hearTakeInstead } from "./heard/mix";
import { later } from "./later.testing";
import { forgetGains, gainCame } from "./server/ear";
import { edit } from "./server/edits";
import { received, useSession } from "./server/session";
import { useView } from "./view/view";

function answered() {
  const one = later<never>();
  sent.answers.push(one);
  return one.answer;
}

const point = (at: number, db: number, id = `p${at}`) => ({ id, at, db, shape: "linear", clip: null });
let drawn = { curve: [], ride: [point(1, 0), point(2, 0)], trim: [], offset: 0, off: false, ramp: 0.06 };
const timeline = { missing: false, key: "own", sample_rate: 48000, duration: 60, frames: 60 * 48000 };
const track = (id: string, gain_key: string) => ({
  id,
  take: 1,
  kind: "voice",
  gain_key,
  timeline,
  range_low: -20,
  range_high: 6,
});

/** The session with its clip at a place, as the server tells it. */
const at = (revision: number, start: number, key = `k${count}.${revision}`, more: object = {}) =>
  answerOf(`s${count}`, revision, ["t"], {
    ...more,
    tracks: [track("t", key)],
    clips: [clip({ id: "c", track: "t", start, end: start + 1, phrase_start: start, phrase_end: start + 1 })],
  });

let count = 0;

beforeEach(() => {
  sent.moves = [];
  sent.points = [];
  sent.drafts = [];
  sent.accepted = [];
  sent.answers = [];
  played.gains = [];
  hearTakeInstead(null);
  forgetGains();
  count++;
  useView.setState({ stage: "ride", focus: "t", lane: "ride", points: new Set(), playing: false });
  useSession.setState(received({ id: "", header: null, terms: null, clips: {}, marks: {} }, at(1, 2)));
});

const shownStart = () => useSession.getState().clips.t![0]!.start;

describe("a place that is typed", () => {
  it("is the place that a clip comes to, wherever a move before brings it", async () => {
    void moveClips("t", ["c"], { by: 1 });
    void moveClipTo("t", "c", 10);
    expect(shownStart()).toBe(10);
    await turn();
    // another window has moved it as well: what is typed is meant all the same
    sent.answers[0]!.come(at(2, 3.5));
    await turn();
    expect(sent.moves.map((body) => (body as { by: number }).by)).toEqual([1, 6.5]);
    expect(shownStart()).toBe(10);
  });

  it("is the moment that a point comes to, wherever a move before brings it", async () => {
    await turn();
    void movePoints(["p1"], 0.25, 0);
    void movePointTo("p1", 1.75);
    await turn();
    sent.answers[0]!.come(at(2, 2));
    await turn();
    expect(sent.points).toMatchObject([
      { points: ["p1"], seconds: 0.25 },
      { points: ["p1"], at: 1.75 },
    ]);
  });
});

describe("a draft that is accepted", () => {
  it("is that of the rule that is being kept, also when it is kept before the draft of it is there", async () => {
    await turn();
    const come = (stamp: string) => sent.drafts.at(-1)!.come({ stamp, clips: [] } as never);
    void makeDraft();
    await turn();
    come("first");
    await turn();
    tryRule({ most_up: 18 });
    const kept = edit("do it", (revision, id) => api.changeSession(id, revision, { rule: { most_up: 18 } }));
    await turn();
    void acceptDraft();
    sent.answers[0]!.come(at(2, 2, "k", { rule: { most_up: 18 } }));
    await kept;
    tryRule(undefined);
    await turn();
    // the one that was tried is of the state before; another is asked for
    come("second");
    await turn();
    expect(sent.accepted).toEqual([]);
    come("third");
    await turn();
    expect(sent.drafts.map(({ rule }) => rule)).toEqual([undefined, { most_up: 18 }, undefined]);
    expect(sent.accepted).toEqual(["third"]);
  });
});

describe("points that are selected", () => {
  it("stay selected when others come before them, and go when they go", async () => {
    await turn();
    const answer = (revision: number, ride: object[]) => {
      drawn = { ...drawn, ride } as typeof drawn;
      sent.answers.at(-1)!.come(at(revision, 2));
    };
    selectPoints(["p1", "p2"]);
    void putPoint(0.5, 0);
    await turn();
    answer(2, [point(0.5, 0), point(1.5, -3, "p1"), point(2, 0)]);
    await turn();
    expect([...useView.getState().points]).toEqual(["p0.5"]);
    selectPoints(["p1", "p2"]);
    void movePoints(["p1", "p2"], 0, -1);
    await turn();
    answer(3, [point(0.5, 0), point(1.5, -4, "p1")]);
    await turn();
    expect([...useView.getState().points]).toEqual(["p1"]);
  });
});

describe("another take that is heard", () => {
  const gain = { at: new Float64Array(0), db: new Float64Array(0) };
  const now = () => useSession.getState().header!.tracks[0]!;

  it("stays, whatever is edited meanwhile, and the own one is heard again with its newest gain", async () => {
    await turn();
    played.gains = [];
    hearTakeInstead({ track: { ...now(), take: 2 }, gain });
    expect(played.tracks[0]!.take).toBe(2);
    await edit("do it", () => Promise.resolve(at(2, 4)));
    gainCame(now(), "all", gain, 2);
    expect(played.tracks[0]!.take).toBe(2);
    expect(played.gains).toEqual(["t 2"]);
    hearTakeInstead(null);
    expect(played.tracks[0]!.take).toBe(1);
    expect(played.gains).toEqual(["t 2", "t 1"]);
  });
});
