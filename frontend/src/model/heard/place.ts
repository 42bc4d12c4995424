/** The play line by key and by number, and the free span that is drawn with it. */
import { engine } from "../../sound/engine";
import { duration, focusedClips, phraseSpan } from "../server/focus";
import { type Span, useView } from "../view/view";
import { seek } from "./listening";
import { reveal } from "./looking";
import { heardLength } from "./mix";

/** Of the window, how far an arrow moves the play line. */
const STEP = 0.01;

type Way = "step" | "page" | "whole";

/** Where the play line goes, later (1) or earlier (-1): a step of the window, all of it, or to the end. */
function goal(way: Way, direction: 1 | -1): number {
  // in Survey there is empty paper behind the end
  if (way === "whole") return direction > 0 ? Math.min(heardLength(), duration()) : 0;
  const { window } = useView.getState();
  const by = (window.end - window.start) * (way === "page" ? 1 : STEP);
  return Math.min(Math.max(engine.seconds + direction * by, 0), duration());
}

/** Put the play line somewhere, and have it in the window. */
export function placeLine(at: number) {
  seek(at);
  const there = engine.seconds;
  reveal({ start: there, end: there });
}

export const moveLine = (way: Way, direction: 1 | -1) => placeLine(goal(way, direction));

/** Select a free span, with the phrases that lie in it; in Ride what is drawn is meant, and no phrase. */
export function selectSpan(from: number, to: number) {
  const span = { start: Math.max(0, Math.min(from, to)), end: Math.min(duration(), Math.max(from, to)) };
  const isIn = (middle: number) => middle >= span.start && middle <= span.end;
  const inside = focusedClips().filter((clip) => {
    const { start, end } = phraseSpan(clip);
    return clip.after !== null && isIn((start + end) / 2);
  });
  const ids = useView.getState().stage === "ride" ? [] : inside.map((clip) => clip.id);
  useView.setState({ span, selection: new Set(ids), marks: new Set(), points: new Set() });
  return span;
}

/** The span that keys are drawing, and where it was begun. */
let drawing: { span: Span; from: number } | null = null;

/** Draw a span from where the play line was to where a key moves it. */
export function drawSpan(way: Way, direction: 1 | -1) {
  const isOurs = drawing !== null && drawing.span === useView.getState().span;
  const from = isOurs ? drawing!.from : engine.seconds;
  moveLine(way, direction);
  drawing = { span: selectSpan(from, engine.seconds), from };
}
