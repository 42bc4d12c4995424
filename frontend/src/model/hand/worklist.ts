/** The phrases in the order of the work, and going from one to the next. */
import type { Clip } from "../../api/client";
import { tell } from "../../parts/messages";
import { afterClick } from "../../parts/useRows";
import { playSelection, seek } from "../heard/listening";
import { reveal } from "../heard/looking";
import { focused, focusedClips, phraseSpan } from "../server/focus";
import { isLevel, offTarget, useSession } from "../server/session";
import { select, useView } from "../view/view";

export interface WorkItem {
  clip: Clip;
  number: number;
  deviation: number;
  level: boolean;
}

/** The phrases of the track in focus in the order of the worklist. What is off comes first, worst first; or by time. */
export function worklist(clips: Clip[], target: number, tolerance: number, order: "worst" | "time"): WorkItem[] {
  const items: WorkItem[] = [];
  let number = 0;
  for (const clip of clips) {
    const off = offTarget(clip, target);
    if (off === null) continue;
    number++;
    items.push({ clip, number, deviation: off, level: isLevel(off, tolerance) });
  }
  if (order === "time") return items;
  const rank = (item: WorkItem) => (item.clip.left_out ? 1e6 : 0) - Math.abs(item.deviation);
  return items.sort((a, b) => rank(a) - rank(b) || a.clip.start - b.clip.start);
}

/** Go to the next or previous phrase of the worklist, or the next that is off; play it and wait for the hand. */
export function step(direction: 1 | -1, onlyOff: boolean) {
  const { header } = useSession.getState();
  const track = focused();
  if (!header || !track) return;
  const { order, selection } = useView.getState();
  const items = worklist(focusedClips(), track.target, header.rule.tolerance, order);
  if (items.length === 0) return;
  const at = items.findIndex((item) => selection.has(item.clip.id));
  for (let i = 1; i <= items.length; i++) {
    const start = at < 0 ? (direction === 1 ? -1 : 0) : at;
    const item = items[(start + direction * i + items.length * 2) % items.length]!;
    if (onlyOff && (item.level || item.clip.left_out)) continue;
    return goTo(item.clip);
  }
  tell("Every phrase is level.");
}

/** Choose a phrase, or one ``more``: it comes into the window, and the play line to where it begins. */
export function chooseClip(clip: Clip, more: boolean) {
  useView.setState((s) => ({ selection: afterClick(s.selection, clip.id, more), span: null }));
  reveal(phraseSpan(clip));
  if (!more) seek(phraseSpan(clip).start);
}

export function goTo(clip: Clip) {
  select([clip.id]);
  reveal(phraseSpan(clip));
  playSelection();
}
