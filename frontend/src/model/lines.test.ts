/** Edits of one session reach no other: what is late is late for its own. */
import { beforeEach, describe, expect, it, vi } from "vitest";

const said = vi.hoisted(() => ({ complaints: [] as string[], told: [] as string[] }));
const asked = vi.hoisted(() => ({
  sessions: [] as string[],
  answer: (_: string): Promise<unknown> => Promise.reject(),
}));
vi.mock("../parts/messages", () => ({
  complain: (error: Error) => said.complaints.push(error.message),
  tell: (words: string) => said.told.push(words),
}));
vi.mock("../api/client", () => ({
  api: {
    session: (id: string) => {
      asked.sessions.push(id);
      return asked.answer(id);
    },
    undo: (id: string) => Promise.resolve(whole(id, 2, { label: "undone" })),
  },
}));

import { Problem } from "../parts/problem";
import { whole as answerOf, turn } from "./answers.testing";
import { later } from "./later.testing";
import { cameElsewhere, catchUp, edit, edited, openSession, reload, undo } from "./server/edits";
import { useSession } from "./server/session";

const whole = (id: string, revision: number, more: object = {}) => answerOf(id, revision, [`${id}-track`], more);

const shown = () => {
  const { id, header } = useSession.getState();
  return { id, of: header?.id, revision: header?.revision };
};

let count = 0;
/** Two sessions that no other test has. */
async function two() {
  const [a, b] = [`a${++count}`, `b${count}`];
  asked.answer = (id) => Promise.resolve(whole(id, 1, { undo: `step of ${id}` }));
  await openSession(a);
  return [a, b] as const;
}

beforeEach(() => {
  said.complaints = [];
  said.told = [];
  asked.sessions = [];
});

describe("what is done elsewhere", () => {
  it("is had once it is heard of, after what is on its way from here", async () => {
    const [a] = await two();
    asked.sessions = [];
    const late = later<ReturnType<typeof whole>>();
    const done = edit("do it", () => late.answer);
    // what an edit from here led to may be heard of before its answer comes: nothing is asked for
    cameElsewhere(a, 2);
    late.come(whole(a, 2));
    await done;
    await edited();
    expect(asked.sessions).toEqual([]);
    asked.answer = (id) => Promise.resolve(whole(id, 3));
    cameElsewhere(a, 3);
    cameElsewhere(a, 3);
    await vi.waitFor(() => expect(shown().revision).toBe(3));
    expect(asked.sessions).toEqual([a]);
    // what is known, older, or of another session is nothing new
    for (const revision of [1, 3]) cameElsewhere(a, revision);
    cameElsewhere("another", 7);
    await edited();
    expect(asked.sessions).toEqual([a]);
  });

  it("is had where an answer says that another window was at work as well", async () => {
    const [a] = await two();
    asked.sessions = [];
    asked.answer = (id) => Promise.resolve(whole(id, 3, { label: "all of it" }));
    expect(await edit("do it", () => Promise.resolve(whole(a, 3)))).toBe(true);
    await edited();
    expect(asked.sessions).toEqual([a]);
  });
});

describe("a session that is left", () => {
  it("has its late answer to itself, and the next one is shown", async () => {
    const [a, b] = await two();
    const late = later<never>();
    const done = edit("do it", () => late.answer);
    await openSession(b);
    late.come(whole(a, 2, { told: "55 phrases settled" }));
    expect(await done).toBe(false);
    expect(shown()).toEqual({ id: b, of: b, revision: 1 });
    expect(said.told).toEqual([]);
  });

  it("sends what waited when it is come back to, and is shown when all of it is told", async () => {
    const [a, b] = await two();
    const late = later<ReturnType<typeof whole>>();
    void edit("one", () => late.answer);
    let sentAt = 0;
    const other = edit("two", (revision) => {
      sentAt = revision;
      return Promise.resolve(whole(a, 3));
    });
    await openSession(b);
    const all = later<ReturnType<typeof whole>>();
    asked.answer = () => all.answer;
    const back = openSession(a);
    late.come(whole(a, 2));
    await other;
    expect(sentAt).toBe(2);
    // the answer to an edit holds what is different, which is not a session
    expect(shown().revision).toBeUndefined();
    all.come(whole(a, 3));
    await back;
    expect(shown()).toEqual({ id: a, of: a, revision: 3 });
  });

  it("is not waited for by the next one, whose undo is its own", async () => {
    const [, b] = await two();
    void edit("do it", () => later<never>().answer);
    await openSession(b);
    expect(shown()).toEqual({ id: b, of: b, revision: 1 });
    await undo();
    expect(shown()).toEqual({ id: b, of: b, revision: 2 });
    expect(said.told).toEqual([`Undone: step of ${b}`]);
  });

  it("gets what was queued for it, with its own newest revision", async () => {
    const [a, b] = await two();
    const first = later<never>();
    const sent: [string, number][] = [];
    void edit("do it", () => first.answer);
    void edit("do it", (revision, id) => {
      sent.push([id, revision]);
      return Promise.resolve(whole(id, 3));
    });
    await openSession(b);
    first.come(whole(a, 2));
    await turn();
    expect(sent).toEqual([[a, 2]]);
    expect(shown()).toEqual({ id: b, of: b, revision: 1 });
  });

  it("says of what failed in it that it did", async () => {
    const [a, b] = await two();
    const late = later<never>();
    void edit("make it loud", () => late.answer);
    await openSession(b);
    asked.sessions = [];
    late.fail(new Problem(422, "That is too loud."));
    await turn();
    expect(said.complaints).toEqual([`In “${a}”: not done: make it loud. That is too loud.`]);
    expect(asked.sessions).toEqual([]);
  });

  it("is told whole only after what was done to it, when it is come back to", async () => {
    const [a, b] = await two();
    const late = later<never>();
    void edit("do it", () => late.answer);
    await openSession(b);
    asked.sessions = [];
    asked.answer = (id) => Promise.resolve(whole(id, 2));
    const back = openSession(a);
    await turn();
    expect(asked.sessions).toEqual([]);
    late.come(whole(a, 2));
    await back;
    expect(asked.sessions).toEqual([a]);
    expect(shown()).toEqual({ id: a, of: a, revision: 2 });
  });
});

describe("an edit that fails", () => {
  it("is named where others are on their way, and else nobody asks which it was", async () => {
    const [a] = await two();
    const refused = () => Promise.reject(new Problem(422, "It is locked."));
    await edit("lock 3 phrases", refused);
    expect(said.complaints).toEqual(["It is locked."]);
    void edit("lock 3 phrases", refused);
    await edit("move a border", () => Promise.resolve(whole(a, 2)));
    expect(said.complaints.at(-1)).toBe("Not done: lock 3 phrases. It is locked.");
  });
});

describe("a session that has to be told anew", () => {
  it("is asked for once for all who ask before the question is sent", async () => {
    await two();
    const slow = later<never>();
    void edit("do it", () => slow.answer);
    asked.sessions = [];
    const asking = Array.from({ length: 6 }, () => reload());
    slow.fail(new Problem(422, "No."));
    await Promise.all(asking);
    expect(asked.sessions).toHaveLength(1);
  });

  it("is asked for once for all whose sound was refused, but again after an import", async () => {
    await two();
    asked.sessions = [];
    const slow = later<never>();
    asked.answer = () => slow.answer;
    const asking = Array.from({ length: 3 }, () => catchUp());
    await turn();
    asking.push(catchUp(), catchUp(), catchUp());
    expect(asked.sessions).toHaveLength(1);
    const after = reload();
    slow.come(whole(useSession.getState().id, 2));
    await Promise.all([...asking, after]);
    expect(asked.sessions).toHaveLength(2);
  });

  it("is asked for after a stale edit, and the next edit has its revision", async () => {
    const [a] = await two();
    asked.answer = (id) => Promise.resolve(whole(id, 7));
    let sent = 0;
    void edit("do it", () => Promise.reject(new Problem(409, "Another window was quicker.")));
    await edit("do it", (revision) => {
      sent = revision;
      return Promise.resolve(whole(a, 8));
    });
    await edited();
    expect(sent).toBe(7);
    expect(said.complaints).toEqual(["Not done: do it. Another window was quicker."]);
  });
});
