/** The worklist of the stage Balance. */
import type { LoadPhrase } from "../../api/client";
import { tell } from "../../parts/messages";
import { playSelection } from "../heard/listening";
import { reveal } from "../heard/looking";
import { focused, phraseSpan } from "../server/focus";
import { useSession } from "../server/session";
import { select, useView } from "../view/view";
import { apart, type BalanceState, bedFigures, keeps, loadFigures, useBalance, wantedDistance } from "./balance";

export interface BalanceItem {
  id: string;
  track: string;
  clip: string;
  value: number;
  before: number | null;
  off: boolean;
}

/** Phrases that are too close to the bed, or in which the compressor works hardest; worst first, or by time. */
export function balanceItems(state: BalanceState, order: "worst" | "time"): BalanceItem[] {
  const clips = useSession.getState().clips;
  const start = (item: BalanceItem) => clips[item.track]?.find((clip) => clip.id === item.clip)?.start ?? 0;
  let items: BalanceItem[];
  if (state.leaf === "bed") {
    const drafted = new Map(state.duckDraft?.phrases.map((phrase) => [phrase.clip, phrase.after]));
    const wanted = wantedDistance();
    items = (bedFigures()?.distance.phrases ?? []).flatMap((phrase) => {
      const value = apart(phrase);
      if (value === null) return [];
      const now = drafted.get(phrase.clip) ?? value;
      const off = wanted !== null && !keeps(now, wanted);
      return [{ id: phrase.clip, track: phrase.track, clip: phrase.clip, value: now, before: value, off }];
    });
    if (order === "worst") return items.sort((a, b) => a.value - b.value);
  } else {
    const track = focused()?.id ?? "";
    items = (loadFigures()?.load.phrases ?? []).map((phrase: LoadPhrase) => ({
      id: phrase.clip,
      track,
      clip: phrase.clip,
      value: phrase.after,
      before: phrase.before,
      off: phrase.hard,
    }));
    if (order === "worst") return items.sort((a, b) => b.value - a.value);
  }
  return items.sort((a, b) => start(a) - start(b));
}

/** Go to a phrase, in focus with its voice, and play it. */
export function goToItem(item: BalanceItem, listen = true) {
  if (focused()?.id !== item.track && focused()?.kind === "voice") useView.setState({ focus: item.track });
  const clip = useSession.getState().clips[item.track]?.find((one) => one.id === item.clip);
  if (!clip) return;
  select([clip.id]);
  reveal(phraseSpan(clip));
  if (listen) playSelection();
}

export function stepBalance(direction: 1 | -1, onlyOff: boolean) {
  const { order, selection } = useView.getState();
  const items = balanceItems(useBalance.getState(), order).filter((item) => !onlyOff || item.off);
  if (items.length === 0) return tell(onlyOff ? "Nothing is off." : "There is nothing to go to here.");
  const at = items.findIndex((item) => selection.has(item.clip));
  const next = at < 0 ? (direction === 1 ? 0 : items.length - 1) : (at + direction + items.length) % items.length;
  goToItem(items[next]!);
}
