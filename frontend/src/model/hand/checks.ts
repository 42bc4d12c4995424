/** From a check that does not hold to what does not hold: the stage where it is mended, with the culprit selected. */
import type { Clip } from "../../api/client";
import { seek } from "../heard/listening";
import { reveal } from "../heard/looking";
import { focused, focusedClips, focusedMarks, phraseSpan } from "../server/focus";
import { isJudged, offTarget, useSession } from "../server/session";
import { type Stage, select } from "../view/view";
import { selectMarks } from "./details";

export type Check = "level" | "ceiling" | "peak" | "room" | "lisp";

/** How far each phrase is from passing a check, by its clip alone: the furthest is where to begin. */
const FAULT: Record<Exclude<Check, "lisp">, (clip: Clip, target: number) => number> = {
  level: (clip, target) => Math.abs(offTarget(clip, target) ?? 0),
  ceiling: (clip) => clip.peak + clip.gain,
  peak: (clip) => clip.peak + clip.gain,
  room: (clip) => clip.room_tone + clip.gain,
};

export async function leadTo(check: Check, goStage: (stage: Stage) => Promise<void>) {
  const target = focused()?.target ?? useSession.getState().header?.rule.target ?? 0;
  if (check === "lisp") {
    await goStage("details");
    const mark = focusedMarks().find((m) => m.lisp);
    if (!mark) return;
    selectMarks([mark.id]);
    reveal({ start: mark.start - 0.5, end: mark.end + 0.5 });
    return seek(mark.start);
  }
  await goStage("phrases");
  const clips = focusedClips().filter(isJudged);
  const worst = clips.sort((a, b) => FAULT[check](b, target) - FAULT[check](a, target))[0];
  if (!worst) return;
  select([worst.id]);
  reveal(phraseSpan(worst));
  seek(phraseSpan(worst).start);
}
