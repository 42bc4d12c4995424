/** The keys that end typing in a field: Enter keeps what was typed, Escape forgets it; the field is left by both. */
import type { KeyboardEvent } from "react";
import { flushSync } from "react-dom";

export function leaveField(event: KeyboardEvent<HTMLInputElement>, forget: () => void) {
  if (event.key !== "Enter" && event.key !== "Escape") return;
  const field = event.currentTarget;
  if (event.key === "Escape") {
    event.stopPropagation();
    // nothing was typed, once this is shown
    flushSync(forget);
  }
  field.blur();
}
