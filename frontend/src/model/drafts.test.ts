import { beforeEach, describe, expect, it, vi } from "vitest";

const said = vi.hoisted(() => ({ complaints: [] as unknown[] }));
vi.mock("../parts/messages", () => ({ complain: (error: unknown) => said.complaints.push(error), tell: () => {} }));

import type { Changed } from "../api/client";
import { turn, whole } from "./answers.testing";
import { Drafts } from "./drafts/drafts";
import { later } from "./later.testing";
import { edit } from "./server/edits";
import { useSession } from "./server/session";
import { useView } from "./view/view";
// the order in which they hear of a session does not count
import "./server/focus";

/** Questions that are answered when the test says so, and what is on view. */
function desk() {
  const asked: ReturnType<typeof later<string>>[] = [];
  const desk = { asked, shown: null as string | null, values: 1, askedFor: [] as number[] };
  const set = (values: number) => {
    desk.values = values;
    drafts.follow();
  };
  const drafts = new Drafts<string, number>(
    () => desk.values,
    (values) => {
      desk.askedFor.push(values);
      const question = later<string>();
      asked.push(question);
      return question.answer;
    },
    (draft) => {
      desk.shown = draft;
    },
  );
  /** Have one made and answered. */
  const made = async (draft: string) => {
    void drafts.make();
    await turn();
    asked.at(-1)!.come(draft);
    await turn();
    expect(desk.shown).toBe(draft);
  };
  return Object.assign(desk, { drafts, made, set });
}

const answer = (revision: number, tracks = ["t", "u"]) => whole("s", revision, tracks);

beforeEach(() => {
  said.complaints = [];
  useView.setState({ stage: "phrases", focus: "t" });
  useSession.setState({ id: "s", header: answer(1) });
});

describe("the track in focus", () => {
  const arrive = (...tracks: string[]) => {
    useSession.setState({ header: answer(2, tracks) });
    return useView.getState().focus;
  };

  it("is one that is there, and stays the same one as long as it is", () => {
    useView.setState({ focus: "of another session" });
    expect(arrive("t", "u")).toBe("t");
    expect(arrive("before", "t", "u")).toBe("t");
    expect(arrive("before", "u")).toBe("before");
    // one that was taken away and comes back does not take it from the one that is looked at now
    expect(arrive("before", "t", "u")).toBe("before");
    expect(arrive()).toBe("before");
    expect(arrive("u")).toBe("u");
  });
});

describe("a draft", () => {
  it("is asked for when the edit before it was answered", async () => {
    const d = desk();
    const before = later<Changed>();
    const done = edit("do it", () => before.answer);
    void d.drafts.make();
    await turn();
    expect(d.asked.length).toBe(0);
    before.come(answer(2));
    await done;
    await turn();
    expect(d.asked.length).toBe(1);
    expect(d.shown).toBeNull();
  });

  it("that is on view is made again after an edit, and shown no more as it was", async () => {
    const d = desk();
    void d.drafts.make();
    await turn();
    useSession.setState({ header: answer(2) });
    d.asked[0]!.come("of the first");
    await turn();
    expect(d.shown).toBeNull();
    d.asked[1]!.come("of the second");
    await turn();
    expect(d.shown).toBe("of the second");
    useSession.setState({ header: answer(3) });
    await turn();
    d.asked[2]!.come("of the third");
    await turn();
    expect(d.shown).toBe("of the third");
  });

  it("is asked for one at a time, however fast a slider moves, and the last value counts", async () => {
    const d = desk();
    for (let i = 0; i < 5; i++) void d.drafts.make();
    await turn();
    for (let i = 0; i < 5; i++) void d.drafts.make();
    expect(d.asked.length).toBe(1);
    d.asked[0]!.come("first");
    await turn();
    expect(d.shown).toBe("first");
    expect(d.asked.length).toBe(2);
    d.asked[1]!.come("last");
    await turn();
    expect(d.shown).toBe("last");
    expect(d.asked.length).toBe(2);
  });

  it("is gone with its stage, its track and its session, also if it is still on its way", async () => {
    for (const leave of [
      () => useView.setState({ stage: "ride" }),
      () => useView.setState({ focus: "u" }),
      () => useSession.setState({ id: "another" }),
      () => useSession.setState({ header: answer(2, ["t"]) }),
    ]) {
      const d = desk();
      await d.made("on view");
      void d.drafts.make();
      await turn();
      leave();
      expect(d.shown).toBeNull();
      d.asked[1]!.come("late");
      await turn();
      expect(d.shown).toBeNull();
    }
  });

  it("stays when another track comes in before the one on view, which nobody has chosen yet", async () => {
    useSession.setState({ header: null });
    useView.setState({ focus: "" });
    useSession.setState({ header: answer(1) });
    const d = desk();
    await d.made("of t");
    useSession.setState({ header: answer(2, ["before", "t", "u"]) });
    await turn();
    expect(useView.getState().focus).toBe("t");
    d.asked.at(-1)!.come("of t, again");
    await turn();
    expect(d.shown).toBe("of t, again");
  });

  it("is shown until it was accepted, and still there if that failed", async () => {
    const d = desk();
    await d.made("one");
    const refused = later<Changed>();
    const first = d.drafts.accept("accept it", () => refused.answer);
    await turn();
    refused.fail(new Error("no"));
    expect(await first).toBe(false);
    expect(d.shown).toBe("one");
    await turn();
    d.asked[1]!.come("one again");
    await turn();
    const taken = later<Changed>();
    const second = d.drafts.accept("accept it", () => taken.answer);
    await turn();
    expect(d.shown).toBe("one again");
    taken.come(answer(2));
    expect(await second).toBe(true);
    expect(d.shown).toBeNull();
    // an edit that comes later has nothing to follow it
    useSession.setState({ header: answer(9) });
    await turn();
    expect(d.asked.length).toBe(2);
  });

  it("is accepted as the hand has set it: what comes on view with that is what is done", async () => {
    const d = desk();
    await d.made("of one");
    // a slider moves on, and its draft is on its way
    d.values = 2;
    d.drafts.follow();
    await turn();
    const sent: [number, string][] = [];
    const accept = () =>
      d.drafts.accept("accept it", (_, values, draft) => {
        sent.push([values, draft]);
        return Promise.resolve(answer(2));
      });
    const [done, twice] = [accept(), accept()];
    await turn();
    expect(sent).toEqual([]);
    while (d.asked.length < 3) {
      d.asked.at(-1)!.come("of two");
      await turn();
    }
    d.asked.at(-1)!.come("of two");
    expect(await done).toBe(true);
    expect(await twice).toBe(false);
    expect(sent).toEqual([[2, "of two"]]);
    expect(d.shown).toBeNull();
  });

  it("is not accepted once it was dropped, or the hand has gone on, while it was waited for", async () => {
    for (const go of [(d: ReturnType<typeof desk>) => d.drafts.drop(), (d: ReturnType<typeof desk>) => d.set(3)]) {
      const d = desk();
      await d.made("of one");
      d.set(2);
      await turn();
      const done = d.drafts.accept("accept it", () => Promise.reject(new Error("never asked")));
      await turn();
      go(d);
      for (let i = 1; i < d.asked.length; i++) {
        d.asked[i]!.come("late");
        await turn();
      }
      expect(await done).toBe(false);
      expect(said.complaints).toEqual([]);
    }
  });

  it("is not accepted where none was asked for", async () => {
    const d = desk();
    expect(await d.drafts.accept("accept it", () => Promise.reject(new Error("never asked")))).toBe(false);
    expect(said.complaints).toEqual([]);
  });

  it("that cannot be made is told and taken away", async () => {
    const d = desk();
    void d.drafts.make();
    await turn();
    d.asked[0]!.fail(new Error("no references"));
    await turn();
    expect(said.complaints).toEqual([new Error("no references")]);
    expect(d.shown).toBeNull();
    useSession.setState({ header: answer(5) });
    await turn();
    expect(d.asked.length).toBe(1);
  });
});
