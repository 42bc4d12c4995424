/** What is held or set has an owner: who took it lets it go, and it goes with what it was set for. */
import { beforeEach, describe, expect, it, vi } from "vitest";

const asked = vi.hoisted(() => ({ trials: [] as object[], ducks: [] as [string, object][] }));
vi.mock("../sound/engine", () => ({ engine: { set: () => {}, setLoad: () => {}, setTracks: () => {} } }));
vi.mock("../api/client", () => ({
  api: {
    // never answered: nothing here looks at it
    distance: () => new Promise(() => {}),
    dipTrial: (_: string, rules: object) => {
      asked.trials.push(rules);
      return Promise.resolve({ marks: ["m"], depth: [-3] });
    },
    duckDraft: (id: string, rule: object) => {
      asked.ducks.push([id, rule]);
      return Promise.resolve({ points: [], phrases: [] });
    },
  },
}));

import { turn } from "./answers.testing";
import { draftDuck, duckRule, setDuck, setSlow, slowRule } from "./drafts/balance";
import { endingTrial, tryDipRule } from "./hand/details";
import { holdFader, useHeldFader } from "./heard/mix";
import { useSession } from "./server/session";
import { hand, useView } from "./view/view";

const bed = (id: string, depth: number) => ({ id, kind: "bed", duck: { depth }, timeline: {} });
const open = (id: string, ...tracks: object[]) =>
  useSession.setState({ id, header: { id, revision: 1, tracks } as never, clips: {}, marks: {} });

beforeEach(() => {
  asked.trials = [];
  asked.ducks = [];
  open("s", bed("low", -6), bed("high", -9));
  useView.setState({ stage: "details", focus: "low" });
});

describe("a fader that is held", () => {
  it("is let go by who took it, and by nobody else", () => {
    const first = holdFader({ track: "low", db: -3 });
    const second = holdFader({ track: "high", db: -5 });
    first();
    expect(useHeldFader.getState().fader).toEqual({ track: "high", db: -5 });
    second();
    expect(useHeldFader.getState().fader).toBeNull();
  });
});

describe("a trial of a slider", () => {
  it("goes on when the slider before it is answered", async () => {
    tryDipRule("breath", { depth: -4 });
    const endFirst = endingTrial();
    tryDipRule("ess", { depth: -2 });
    const endSecond = endingTrial();
    await turn();
    endFirst();
    expect(hand.trial?.get("m")).toBe(-3);
    endSecond();
    expect(hand.trial).toBeNull();
    expect(asked.trials.at(-1)).toEqual({ ess: { depth: -2 } });
  });
});

describe("what is set of a rule and not kept", () => {
  it("is that of one bed", async () => {
    useView.setState({ stage: "balance" });
    setDuck({ depth: -20 });
    setSlow({ most_down: 3 });
    expect(duckRule()?.depth).toBe(-20);
    useView.setState({ focus: "high" });
    expect(duckRule()?.depth).toBe(-9);
    expect(slowRule()).toEqual({});
    draftDuck();
    await turn();
    expect(asked.ducks).toEqual([["high", {}]]);
  });

  it("goes with its session", () => {
    setDuck({ depth: -20 });
    setSlow({ most_down: 3 });
    open("another", bed("third", -4));
    open("s", bed("low", -6));
    expect(duckRule()?.depth).toBe(-6);
    expect(slowRule()).toEqual({});
  });
});
