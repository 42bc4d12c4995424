import { describe, expect, it } from "vitest";
import { later } from "./later.testing";
import { newest, takeBack } from "./newest";

describe("a question that is asked again", () => {
  it("is answered once, by the newest, in whatever order answers come", async () => {
    const [first, second] = [later<string>(), later<string>()];
    const asked = newest("q", () => first.answer);
    const again = newest("q", () => second.answer);
    second.come("new");
    first.come("old");
    expect(await Promise.all([asked, again])).toEqual([null, "new"]);
  });

  it("does not take back what is asked besides", async () => {
    const [one, other] = [later<string>(), later<string>()];
    const both = Promise.all([newest("one", () => one.answer), newest("other", () => other.answer)]);
    one.come("1");
    other.come("2");
    expect(await both).toEqual(["1", "2"]);
  });

  it("fails as it does when it is the newest, and in silence when it is not", async () => {
    const [first, second] = [later<string>(), later<string>()];
    const asked = newest("q", () => first.answer);
    const again = newest("q", () => second.answer);
    first.fail(new Error("too late to matter"));
    second.fail(new Error("no"));
    await expect(again).rejects.toThrow("no");
    expect(await asked).toBeNull();
  });

  it("is forgotten once it is not wanted", async () => {
    const only = later<string>();
    const asked = newest("q", () => only.answer);
    takeBack("q");
    only.come("late");
    expect(await asked).toBeNull();
  });
});
