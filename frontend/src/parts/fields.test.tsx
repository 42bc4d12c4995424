/** A field for an exact number, while what it is of changes under it. */
import { MantineProvider } from "@mantine/core";
import { act, cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { ExactField } from "./ExactField";
import { useMessages } from "./messages";

afterEach(cleanup);

/** A field whose number can be another one, and what it has kept. */
function opened(now: number) {
  const kept: [string, number][] = [];
  const shown = (of: string, value: number) => (
    <MantineProvider>
      <ExactField name="Gain" now={value} low={-60} high={24} unit="dB" keep={(to) => kept.push([of, to])} />
    </MantineProvider>
  );
  const { rerender, unmount } = render(shown("first", now));
  const field = screen.getByLabelText("Gain") as HTMLInputElement;
  const becomes = (value: number, of = "first") => act(() => rerender(shown(of, value)));
  const focus = () => fireEvent.focusIn(field);
  const type = (text: string) => fireEvent.change(field, { target: { value: text } });
  return { field, focus, kept, becomes, type, unmount };
}

describe("an exact field", () => {
  it("shows its number as it is, until it has the focus", () => {
    const { field, focus, becomes } = opened(1);
    becomes(2);
    expect(field.value).toBe("2 dB");
    focus();
    field.setSelectionRange(0, 1);
    becomes(3);
    // what is selected to be typed over stays as it is
    expect([field.value, field.selectionStart, field.selectionEnd]).toEqual(["2 dB", 0, 1]);
    fireEvent.blur(field);
    expect(field.value).toBe("3 dB");
  });

  it("keeps what was typed, whatever its number is by then", () => {
    const { field, focus, kept, becomes, type } = opened(1);
    focus();
    type("7 dB");
    becomes(2);
    expect(field.value).toBe("7 dB");
    fireEvent.keyDown(field, { key: "Enter" });
    expect(kept).toEqual([["first", 7]]);
  });

  it("says where it ends, and keeps that", () => {
    const { field, focus, kept, type } = opened(1);
    for (const [text, end] of [
      ["40", "24 dB: that is the most."],
      ["-99", "−60 dB: that is the least."],
    ] as const) {
      focus();
      type(text);
      fireEvent.blur(field);
      expect(useMessages.getState().items.at(-1)?.words).toBe(end);
    }
    expect(kept.map(([, value]) => value)).toEqual([24, -60]);
  });

  it("keeps nothing that was not typed", () => {
    const { field, focus, kept, becomes } = opened(1);
    focus();
    becomes(2);
    fireEvent.keyDown(field, { key: "Enter" });
    expect(kept).toEqual([]);
  });

  it("gives back with Escape", () => {
    const { field, focus, kept, type } = opened(1);
    focus();
    type("7 dB");
    fireEvent.keyDown(field, { key: "Escape" });
    expect([field.value, kept]).toEqual(["1 dB", []]);
  });

  it("keeps what was typed for what it was opened on, where that is put away meanwhile", () => {
    const { focus, kept, type, unmount } = opened(1);
    focus();
    type("7 dB");
    unmount();
    expect(kept).toEqual([["first", 7]]);
  });
});
