/** Every command by name, with its key. Keys, the list of keys and the list of everything are made from this one table. */
import { hearLoad } from "../drafts/balance";
import { confirmMarks, findAgain, makeOfSpan, notAMark, silence, toggleKeepOut, toggleNotch } from "../hand/details";
import { cutHere, findPhrases, joinSelected, selectAll, toggleFlag } from "../hand/gain";
import {
  changeSpan,
  copySpan,
  deleteDrawn,
  makeBorders,
  otherLane,
  pasteSpan,
  selectPointsInSpan,
  smoothSpan,
} from "../hand/ride";
import {
  bringHome,
  chooseOther,
  closeGap,
  copySelected,
  duplicateSelected,
  hearOther,
  moveSelected,
  pasteHeld,
  takeOutSelected,
  trimHere,
} from "../hand/timeline";
import { playOrStop, playSelection, setBefore, setLoop } from "../heard/listening";
import { fitAll, fitSelection } from "../heard/looking";
import { duplicateTrack, moveTrack, toggleHeard } from "../heard/mix";
import { drawSpan, moveLine } from "../heard/place";
import { otherHeard } from "../passes/passes";
import { toggleArmed } from "../passes/riding";
import { redo, undo } from "../server/edits";
import { STAGE_NAMES, STAGES, type Stage, useView } from "../view/view";
import {
  clipsOr,
  draftOrAllDown,
  dropOrClear,
  either,
  go,
  inLanes,
  inRide,
  nudgeEither,
  openExact,
  otherMode,
  rideOrLanes,
  zeroOrReset,
} from "./byStage";

export interface Command {
  id: string;
  name: string;
  group: "Listen" | "Go" | "Place" | "Gain" | "Phrase" | "Detail" | "Ride" | "Lanes" | "Picture" | "Session";
  /** Keys as shown; the first is the main one. */
  keys: string[];
  run: () => void;
  /** Whether a key that is held does it again and again: a step, or a nudge. */
  repeats: boolean;
}

const REPEATS = /^(next|previous|up|down|later|earlier)(-|$)/;

export function commands(goStage: (stage: Stage) => void): Command[] {
  const c = (id: string, group: Command["group"], name: string, keys: string[], run: () => void): Command => ({
    id,
    group,
    name,
    keys,
    run,
    repeats: REPEATS.test(id),
  });
  return [
    c("play", "Listen", "Play / stop", ["Space"], playOrStop),
    c("play-selection", "Listen", "Play the selection with 1 s around it", ["Enter"], playSelection),
    c("loop", "Listen", "Loop the selection", ["O"], () => setLoop(!useView.getState().loop)),
    c("before", "Listen", "Before / After (hold to compare)", ["B"], () => setBefore(!useView.getState().before)),
    c("before-all", "Listen", "Before on all tracks / this one", ["Shift+B"], () =>
      useView.setState((s) => ({ beforeAll: !s.beforeAll })),
    ),
    c("mute", "Listen", "Mute / unmute the track in focus", ["M"], () => toggleHeard("mute")),
    c("solo", "Listen", "Solo / unsolo the track in focus", ["Shift+M"], () => toggleHeard("solo")),
    c("alone", "Listen", "Hear only the track in focus / all tracks", ["J"], () =>
      useView.setState((s) => ({ alone: !s.alone })),
    ),
    c("load", "Listen", "Hear the voices through the compressor", ["W"], () => hearLoad(!useView.getState().load)),
    c("equal", "Listen", "Compare before and after at equal loudness", ["Q"], () =>
      useView.setState((s) => ({ equal: !s.equal })),
    ),
    c("next", "Go", "Next in the worklist", ["."], () => go(1, false)),
    c("previous", "Go", "Previous in the worklist", [","], () => go(-1, false)),
    c("next-off", "Go", "Next that is off, or not down yet", ["Shift+."], () => go(1, true)),
    c("previous-off", "Go", "Previous that is off, or not down yet", ["Shift+,"], () => go(-1, true)),
    ...STAGES.map((stage, i) =>
      c(`stage-${stage}`, "Go", `Stage ${STAGE_NAMES[stage]}`, [String(i + 1)], () => goStage(stage)),
    ),
    c("up", "Gain", "Selection +0.5 dB", ["Up"], nudgeEither(0.5)),
    c("down", "Gain", "Selection −0.5 dB", ["Down"], nudgeEither(-0.5)),
    c("up-fine", "Gain", "Selection +0.1 dB", ["Alt+Up"], nudgeEither(0.1)),
    c("down-fine", "Gain", "Selection −0.1 dB", ["Alt+Down"], nudgeEither(-0.1)),
    c("zero", "Gain", "Back to 0 dB, or to the rule; in Ride, delete", ["Backspace", "0 Enter"], zeroOrReset),
    c(
      "draft",
      "Gain",
      "Draft the selection; again to accept. Details: turn all down. Balance: duck. Sign off: render",
      ["D"],
      draftOrAllDown,
    ),
    c("drop", "Gain", "Discard the draft; clear the selection", ["Escape"], dropOrClear),
    c("lock", "Phrase", "Lock / unlock the phrase", ["L"], () => toggleFlag("locked")),
    c(
      "leave-out",
      "Phrase",
      "Leave out / include again; a detail: keep out",
      ["U"],
      either(() => toggleFlag("left_out"), toggleKeepOut),
    ),
    c("reference", "Phrase", "Use as a reference / stop", ["R"], () => toggleFlag("reference")),
    c("exact", "Phrase", "Type exact gain, words; in a lane, time", ["E"], openExact),
    c("cut", "Phrase", "Cut at the play line", ["C"], cutHere),
    c("find-phrases", "Phrase", "Find the phrases again", [], () => void findPhrases()),
    c("find-details", "Detail", "Find the details again", [], () => void findAgain()),
    c("join", "Phrase", "Join the selected phrases", ["Shift+C"], () => void joinSelected()),
    c("all", "Phrase", "Select every phrase", ["Mod+A"], selectAll),
    c(
      "later",
      "Place",
      "Play line right; clips by 0.1 s",
      ["Right"],
      clipsOr(
        () => moveSelected(0.1),
        () => moveLine("step", 1),
      ),
    ),
    c(
      "earlier",
      "Place",
      "Play line left; clips",
      ["Left"],
      clipsOr(
        () => moveSelected(-0.1),
        () => moveLine("step", -1),
      ),
    ),
    c("later-page", "Place", "Play line a window to the right", ["PageDown"], () => moveLine("page", 1)),
    c("earlier-page", "Place", "Play line a window to the left", ["PageUp"], () => moveLine("page", -1)),
    c(
      "start",
      "Place",
      "Play line to the start; clips as recorded",
      ["Home"],
      clipsOr(bringHome, () => moveLine("whole", -1)),
    ),
    c("end", "Place", "Play line to the end", ["End"], () => moveLine("whole", 1)),
    c(
      "later-fine",
      "Place",
      "Span to the right; clips by 0.01 s",
      ["Shift+Right"],
      clipsOr(
        () => moveSelected(0.01),
        () => drawSpan("step", 1),
      ),
    ),
    c(
      "earlier-fine",
      "Place",
      "Span to the left; clips",
      ["Shift+Left"],
      clipsOr(
        () => moveSelected(-0.01),
        () => drawSpan("step", -1),
      ),
    ),
    c("later-span", "Place", "Span a window to the right", ["Shift+PageDown"], () => drawSpan("page", 1)),
    c("earlier-span", "Place", "Span a window to the left", ["Shift+PageUp"], () => drawSpan("page", -1)),
    c("span-start", "Place", "Span to the start", ["Shift+Home"], () => drawSpan("whole", -1)),
    c("span-end", "Place", "Span to the end", ["Shift+End"], () => drawSpan("whole", 1)),
    c("notch", "Detail", "Notch / flat", ["V"], toggleNotch),
    c(
      "silence",
      "Detail",
      "Silence a mark, or the span",
      ["Shift+X"],
      () => useView.getState().stage === "details" && silence(),
    ),
    c("confirm", "Detail", "In doubt: confirm the mark", ["N"], confirmMarks),
    c("not-a-mark", "Detail", "Not a mark: remove it", ["X"], () => void notAMark()),
    c("make-dip", "Detail", "Turn the selected span into a dip", ["I"], () => void makeOfSpan("dip")),
    c(
      "smooth",
      "Ride",
      "Smooth the selected span, or all",
      ["S"],
      inRide(() => smoothSpan()),
    ),
    c(
      "thin",
      "Ride",
      "Thin the points of the span, or all",
      ["T"],
      inRide(() => changeSpan("thin")),
    ),
    c(
      "copy",
      "Ride",
      "Copy the span, points, or the lane; clips",
      ["Mod+C"],
      rideOrLanes(copySpan, () => copySelected(false)),
    ),
    c(
      "paste",
      "Ride",
      "Paste at the play line",
      ["Mod+V"],
      rideOrLanes(
        () => pasteSpan(),
        () => void pasteHeld(),
      ),
    ),
    c(
      "paste-there",
      "Ride",
      "Paste at the same time",
      ["Shift+Mod+V"],
      rideOrLanes(
        () => pasteSpan(true),
        () => void pasteHeld(true),
      ),
    ),
    c(
      "points",
      "Ride",
      "Select the points in the span, or all",
      ["P"],
      inRide(() => void selectPointsInSpan()),
    ),
    c(
      "borders",
      "Ride",
      "Border points at the span or phrases: two; again for four",
      ["Shift+P"],
      inRide(() => makeBorders()),
    ),
    c("lane", "Ride", "Switch lane: clip curve, ride, trim", ["A"], inRide(otherLane)),
    c("hand", "Ride", "Arm / disarm the hand; while it plays Up and Down move it", ["H"], inRide(toggleArmed)),
    c("hand-heard", "Ride", "Hear the chosen pass / the lane without it", ["Y"], inRide(otherHeard)),
    c("hand-mode", "Ride", "The hand: listen / touch / latch", ["Shift+H"], inRide(otherMode)),
    c(
      "duplicate",
      "Lanes",
      "Duplicate the selection right after itself",
      ["Shift+D"],
      inLanes(() => void duplicateSelected()),
    ),
    c(
      "cut-out",
      "Lanes",
      "Cut the selection to paste it elsewhere",
      ["Mod+X"],
      inLanes(() => copySelected(true)),
    ),
    c(
      "take-out",
      "Lanes",
      "Remove the selection and leave silence; in Ride, delete",
      ["Delete"],
      rideOrLanes(
        () => void deleteDrawn(),
        () => void takeOutSelected(),
      ),
    ),
    c("close-gap", "Lanes", "Close the gap after the selection", ["G"], inLanes(closeGap)),
    c(
      "trim-start",
      "Lanes",
      "Trim the start to the play line",
      ["["],
      inLanes(() => trimHere("start")),
    ),
    c(
      "trim-end",
      "Lanes",
      "Trim the end to the play line",
      ["]"],
      inLanes(() => trimHere("end")),
    ),
    c("track-up", "Lanes", "Move the track up", [], () => moveTrack(-1)),
    c("track-down", "Lanes", "Move the track down", [], () => moveTrack(1)),
    c("track-copy", "Lanes", "Duplicate the track", [], () => duplicateTrack()),
    c("other-take", "Phrase", "Hear the phrase in the next take", ["K"], () => void hearOther()),
    c("choose-take", "Phrase", "Choose the take that was heard last", ["Shift+K"], () => void chooseOther()),
    c("fit", "Picture", "Fit the selection", ["F"], fitSelection),
    c("fit-all", "Picture", "Fit all", ["Shift+F"], fitAll),
    c("undo", "Session", "Undo", ["Mod+Z"], () => void undo()),
    c("redo", "Session", "Redo", ["Shift+Mod+Z"], () => void redo()),
    c("keys", "Session", "Show the keys", ["?"], () => useView.setState({ help: true })),
  ];
}

let table: Map<string, Command> | undefined;

/** The command that a message speaks of, to be shown with its key; it is not to be run. */
export function commandCalled(id: string): Command | undefined {
  table ??= new Map(commands(() => {}).map((command) => [command.id, command]));
  return table.get(id);
}
