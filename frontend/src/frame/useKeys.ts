/** Keys work wherever the focus is not in a text field or an open dialog. */
import { useEffect } from "react";
import { zeroOrReset } from "../model/commands/byStage";
import type { Command } from "../model/commands/commands";
import { setBefore } from "../model/heard/listening";
import { endKeys, keysRide, rideByKey } from "../model/passes/riding";
import { useView } from "../model/view/view";
import { keyName } from "../parts/keyNames";

const HELD = 250;
/** Keys that move a slider. */
const MOVES = new Set(["ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown", "Home", "End", "PageUp", "PageDown"]);
/** Keys that move the hand for as long as they are held. */
const RIDES: Record<string, 1 | -1> = { Up: 1, Down: -1, "Alt+Up": 1, "Alt+Down": -1 };
const TYPING = 1200;
/** What is chosen from a list or in the picture. */
const CHOSEN = [".row", ".capsule", ".lane-clip"].map((kind) => `${kind}[aria-pressed=true]`).join();

export function useKeys(table: Command[]) {
  useEffect(() => {
    const byKey = new Map(table.flatMap((command) => command.keys.map((key) => [key, command] as const)));
    let heldSince = 0;
    let zeroAt = Number.NEGATIVE_INFINITY;

    const down = (event: KeyboardEvent) => {
      if (event.defaultPrevented || isElsewhere(event)) return;
      const key = keyName(event);
      if (key === "0") {
        zeroAt = event.timeStamp;
        return;
      }
      if (key === "Enter" && !event.repeat && event.timeStamp - zeroAt < TYPING) {
        zeroAt = Number.NEGATIVE_INFINITY;
        event.preventDefault();
        return zeroOrReset();
      }
      const way = RIDES[key];
      if (way && keysRide()) {
        event.preventDefault();
        if (!event.repeat) rideByKey(way, event.altKey);
        return;
      }
      const command = byKey.get(key);
      if (!command) return;
      event.preventDefault();
      // held down it is meant once: a draft that is made is not accepted by the same press
      if (event.repeat && !command.repeats) return;
      if (key === "B") heldSince = event.timeStamp;
      command.run();
    };
    const up = (event: KeyboardEvent) => {
      if (event.key === "ArrowUp" || event.key === "ArrowDown") endKeys();
      // a key that was held brings back what was heard before; one that was tapped stays
      if (event.key.toUpperCase() !== "B" || heldSince === 0) return;
      if (event.timeStamp - heldSince > HELD) setBefore(!useView.getState().before);
      heldSince = 0;
    };
    // a button that was clicked gives the keys back, so that Space plays and does not press it again
    const clicked = (event: MouseEvent) => {
      // the icon that was clicked may be gone by now: the button is told from the way of the click
      const button = event
        .composedPath()
        .find((one): one is HTMLElement => one instanceof HTMLElement && one.matches("button:not([aria-haspopup])"));
      if (event.detail === 0 || document.querySelector("[role=dialog]")) return;
      button?.blur();
      // a choice has the focus when its own click comes, or only after it: a key that comes at once is not for the choice
      letChoiceGo();
      window.setTimeout(letChoiceGo);
    };
    // and so does a slider that was dragged: Up and Down are for what is selected
    const released = () => {
      const focus = document.activeElement as HTMLElement | null;
      if (focus?.closest("[class*=Slider-root]")) focus.blur();
    };
    window.addEventListener("keydown", down);
    window.addEventListener("keyup", up);
    window.addEventListener("click", clicked);
    window.addEventListener("pointerup", released);
    return () => {
      window.removeEventListener("click", clicked);
      window.removeEventListener("pointerup", released);
      window.removeEventListener("keydown", down);
      window.removeEventListener("keyup", up);
    };
  }, [table]);
}

/** One of several choices, or a switch, that has the focus. */
function letChoiceGo() {
  const focus = document.activeElement as HTMLElement | null;
  if (focus?.matches("input[type=radio], input[type=checkbox]")) focus.blur();
}

function isElsewhere(event: KeyboardEvent): boolean {
  const target = event.target as HTMLElement;
  if (target.closest("input:not([type=radio]):not([type=checkbox]), textarea, select, [contenteditable=true]"))
    return true;
  if (target.closest("[role=slider]:not(.hand-staff)") && MOVES.has(event.key)) return true;
  // one of several choices that was reached by Tab: the arrows choose
  if (target.matches("input[type=radio]") && event.key.startsWith("Arrow")) return true;
  if (document.querySelector("[role=dialog]")) return true;
  if (event.key !== "Enter" && event.key !== " ") return false;
  // Space turns a switch and makes a choice
  if (target.matches("input")) return event.key === " ";
  // both press a button; on a row or phrase that is selected already they are keys again
  const button = target.closest("button, a, [role=tab], label");
  return button !== null && !button.matches(CHOSEN);
}
