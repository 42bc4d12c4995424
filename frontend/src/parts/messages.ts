/** Short messages in the bar under the picture: what happened, to what, and what can be done. */
import { create } from "zustand";
import { isStopped, Problem } from "./problem";

export interface Message {
  key: number;
  words: string;
  /** Whether something was refused or could not be done. */
  trouble: boolean;
  /** The command that the words speak of: its key is shown beside them. */
  command?: string;
  /** What can be done about it; a message that asks stays until it is answered or put away. */
  act?: { words: string; run: () => void };
}

/** How long (ms) what was done, and what could not be done, is to be read. */
const DONE = 8000;
const TROUBLE = 20_000;
const MOST = 5;

/** What is to be read, the newest last. */
export const useMessages = create<{ items: Message[] }>(() => ({ items: [] }));

let count = 0;

function show(words: string, trouble: boolean, { act, command }: Pick<Message, "act" | "command"> = {}) {
  const message = { key: ++count, words, trouble, act, command };
  // what was done last takes the place of what was done before; the same trouble, or question, is told once
  const kept = useMessages.getState().items.filter((item) => (item.trouble || item.act) && item.words !== words);
  useMessages.setState({ items: [...kept, message].slice(-MOST) });
  if (!act) window.setTimeout(() => dismiss(message.key), trouble ? TROUBLE : DONE);
}

export const dismiss = (key: number) =>
  useMessages.setState(({ items }) => ({ items: items.filter((item) => item.key !== key) }));

export const tell = (words: string) => show(words, false);

/** Ask before something is done: ``run`` is called where the person says so. */
export const ask = (words: string, act: string, run: () => void) => show(words, false, { act: { words: act, run } });

/** A number that is asked for, as far as it can be had; where it cannot, that is told. */
export function within(number: number, low: number, high: number, unit: string): number {
  if (number > high) tell(`${high} ${unit}: that is the most.`);
  else if (number < low) tell(`${low} ${unit}: that is the least.`.replace("-", "−"));
  return Math.min(Math.max(number, low), high);
}

export function complain(error: unknown) {
  // who stopped it knows
  if (isStopped(error)) return;
  if (!(error instanceof Problem)) console.error(error);
  show(inWords(error), true, error instanceof Problem ? { command: error.command } : {});
}

/** What went wrong, in a sentence. */
export const inWords = (error: unknown): string =>
  error instanceof Problem ? error.message : "Something unexpected went wrong. Try it again.";
