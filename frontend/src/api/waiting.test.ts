import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { complain, tell, useMessages } from "../parts/messages";
import { Problem, stopped } from "../parts/problem";
import { begin, useWaiting } from "../parts/waiting";
import { onlyAsks, wordsFor } from "./words";

beforeEach(() => {
  vi.useFakeTimers();
});
afterEach(() => {
  vi.runAllTimers();
  vi.useRealTimers();
});

const waits = () => useWaiting.getState().items.map((item) => item.words);
const said = () => useMessages.getState().items.map((item) => item.words);

describe("what is waited for", () => {
  it("is told before half a second is over, and not where the answer is quick", () => {
    const quick = begin("Quick");
    const slow = begin("Slow");
    vi.advanceTimersByTime(200);
    quick();
    expect(waits()).toEqual([]);
    vi.advanceTimersByTime(100);
    expect(waits()).toEqual(["Slow"]);
    slow();
    // once told it can be read, but not be called off any more
    expect(waits()).toEqual(["Slow"]);
    vi.advanceTimersByTime(400);
    expect(waits()).toEqual([]);
  });

  it("can be called off until it has ended", () => {
    const stop = vi.fn();
    const ended = begin("Slow", stop);
    vi.advanceTimersByTime(300);
    useWaiting.getState().items[0]!.stop!();
    expect(stop).toHaveBeenCalledOnce();
    ended();
    expect(useWaiting.getState().items[0]!.stop).toBeUndefined();
  });
});

describe("words for an address", () => {
  it("say what is done, and nothing where nobody waits", () => {
    expect(wordsFor("POST", "/api/tracks/a/ride/draft")).toBe("Drafting a ride");
    expect(wordsFor("POST", "/api/tracks/a/draft")).toBe("Drafting clip gain");
    expect(wordsFor("POST", "/api/tracks/a/ride/draft/accept")).toBe("Making the draft hold");
    expect(wordsFor("GET", "/api/sessions/a")).toBe("Opening the session");
    expect(wordsFor("POST", "/api/tracks/a/gain")).toBe("Making the change");
    for (const path of ["tracks/a/gain", "tracks/a/samples", "tracks/a/wave/2/0", "sessions/a/jobs"]) {
      expect(wordsFor("GET", `/api/${path}`)).toBeUndefined();
    }
    expect(wordsFor("POST", "/api/passes/a/pieces")).toBeUndefined();
  });

  it("only what changes nothing can be called off", () => {
    expect(onlyAsks("POST", "/api/tracks/a/ride/draft", "")).toBe(true);
    expect(onlyAsks("POST", "/api/tracks/a/ride/draft/accept", "")).toBe(false);
    expect(onlyAsks("GET", "/api/tracks/a/load", "")).toBe(true);
    expect(onlyAsks("GET", "/api/sessions/a", "?only=b")).toBe(false);
    expect(onlyAsks("DELETE", "/api/sessions/a", "")).toBe(false);
  });
});

describe("messages", () => {
  it("the newest act takes the place of the one before, and trouble stays to be read", () => {
    tell("First");
    complain(new Problem(400, "This cannot be."));
    complain(new Problem(400, "This cannot be."));
    tell("Second");
    expect(said()).toEqual(["This cannot be.", "Second"]);
    complain(stopped());
    expect(said()).toEqual(["This cannot be.", "Second"]);
    vi.advanceTimersByTime(8000);
    expect(said()).toEqual(["This cannot be."]);
    vi.advanceTimersByTime(20_000);
    expect(said()).toEqual([]);
  });
});
