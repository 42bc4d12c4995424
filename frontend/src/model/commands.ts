/** Every command by name, with its key. Keys, the list of keys and the list of everything are made from this one table. */
import {
  cutHere,
  draftOrAccept,
  dropDraft,
  fitAll,
  fitSelection,
  joinSelected,
  nudge,
  playOrStop,
  playSelection,
  selectAll,
  setBefore,
  setLoop,
  step,
  toggleFlag,
  zero,
} from "./actions";
import { redo, undo } from "./session";
import { STAGES, type Stage, useView } from "./view";

export interface Command {
  id: string;
  name: string;
  group: "Listen" | "Go" | "Gain" | "Phrase" | "Picture" | "Session";
  /** Keys as shown; the first is the main one. */
  keys: string[];
  run: () => void;
}

export function commands(goStage: (stage: Stage) => void): Command[] {
  const c = (id: string, group: Command["group"], name: string, keys: string[], run: () => void): Command => ({
    id,
    group,
    name,
    keys,
    run,
  });
  const titles: Record<Stage, string> = { survey: "Survey", phrases: "Phrases", deliver: "Deliver" };
  return [
    c("play", "Listen", "Play / stop", ["Space"], playOrStop),
    c("play-selection", "Listen", "Play the selection with 1 s around it", ["Enter"], playSelection),
    c("loop", "Listen", "Loop the selection", ["O"], () => setLoop(!useView.getState().loop)),
    c("before", "Listen", "Before / After (hold: as long as held)", ["B"], () => setBefore(!useView.getState().before)),
    c("next", "Go", "Next in the worklist", ["."], () => step(1, false)),
    c("previous", "Go", "Previous in the worklist", [","], () => step(-1, false)),
    c("next-off", "Go", "Next that is off", ["Shift+."], () => step(1, true)),
    c("previous-off", "Go", "Previous that is off", ["Shift+,"], () => step(-1, true)),
    ...STAGES.map((stage, i) =>
      c(`stage-${stage}`, "Go", `Stage ${titles[stage]}`, [String(i + 1)], () => goStage(stage)),
    ),
    c("up", "Gain", "Selection +0.5 dB", ["Up"], () => nudge(0.5)),
    c("down", "Gain", "Selection −0.5 dB", ["Down"], () => nudge(-0.5)),
    c("up-fine", "Gain", "Selection +0.1 dB", ["Alt+Up"], () => nudge(0.1)),
    c("down-fine", "Gain", "Selection −0.1 dB", ["Alt+Down"], () => nudge(-0.1)),
    c("zero", "Gain", "Back to 0 dB", ["Backspace", "0 Enter"], zero),
    c("draft", "Gain", "Draft for the selection; again: accept", ["D"], draftOrAccept),
    c("drop", "Gain", "Drop the draft; clear the selection", ["Escape"], dropOrClear),
    c("lock", "Phrase", "Lock the phrase as it is / unlock", ["L"], () => toggleFlag("locked")),
    c("leave-out", "Phrase", "Leave out / take in again", ["U"], () => toggleFlag("left_out")),
    c("reference", "Phrase", "Make it a reference / no longer", ["R"], () => toggleFlag("reference")),
    c("exact", "Phrase", "Exact gain and words", ["E"], openExact),
    c("cut", "Phrase", "Cut at the play line", ["C"], cutHere),
    c("join", "Phrase", "Join the selected", ["Shift+C"], () => void joinSelected()),
    c("all", "Phrase", "Select every phrase", ["Mod+A"], selectAll),
    c("fit", "Picture", "Fit the selection", ["F"], fitSelection),
    c("fit-all", "Picture", "Fit all", ["Shift+F"], fitAll),
    c("undo", "Session", "Undo", ["Mod+Z"], () => void undo()),
    c("redo", "Session", "Redo", ["Shift+Mod+Z"], () => void redo()),
    c("keys", "Session", "Show the keys", ["?"], () => useView.setState({ help: true })),
  ];
}

function dropOrClear() {
  if (useView.getState().draft) dropDraft();
  else useView.setState({ selection: new Set(), span: null });
}

function openExact() {
  const [first] = useView.getState().selection;
  if (first) useView.setState({ exact: first });
}

/** The name of the key that was pressed, written as in the table: modifiers in the order Shift, Alt, Mod. */
export function keyName(
  event: Pick<KeyboardEvent, "key" | "code" | "shiftKey" | "altKey" | "ctrlKey" | "metaKey">,
): string {
  const mod = event.ctrlKey || event.metaKey;
  const named: Record<string, string> = { " ": "Space", ArrowUp: "Up", ArrowDown: "Down" };
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
