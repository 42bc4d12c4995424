/** What keys are called: in the table of commands, and to the person. */

/** The name of the key that was pressed, written as in the table: modifiers in the order Shift, Alt, Mod. */
export function keyName(
  event: Pick<KeyboardEvent, "key" | "code" | "shiftKey" | "altKey" | "ctrlKey" | "metaKey">,
): string {
  const mod = event.ctrlKey || event.metaKey;
  const named: Record<string, string> = {
    " ": "Space",
    ArrowUp: "Up",
    ArrowDown: "Down",
    ArrowLeft: "Left",
    ArrowRight: "Right",
  };
  // a shifted full stop is another character on most keyboards: the key itself is meant
  const byCode: Record<string, string> = { Period: ".", Comma: "," };
  let key = named[event.key] ?? byCode[event.code] ?? event.key;
  if (key.length === 1) key = key.toUpperCase();
  if (key === "?") return "?";
  return [event.shiftKey && "Shift", event.altKey && "Alt", mod && "Mod", key].filter(Boolean).join("+");
}

/** How a key is shown to the person. */
export const showKey = (key: string) => key.replace("Mod", isMac() ? "Cmd" : "Ctrl");

const isMac = () => typeof navigator !== "undefined" && /mac/i.test(navigator.platform);
