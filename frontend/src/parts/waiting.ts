/** What the program is at work on for this page: told in the bar under the picture once it takes a while. */
import { create } from "zustand";

export interface Wait {
  key: number;
  words: string;
  /** Calls it off; there is none where something may have been changed already. */
  stop?: () => void;
}

/** How long (ms) nothing is said of it: whoever waits for half a second is to know for what well before. */
const QUIET = 250;
/** How long (ms) it stays once it was told, so that it can be read. */
const LEAST = 400;

/** What is told of, the oldest first. */
export const useWaiting = create<{ items: Wait[] }>(() => ({ items: [] }));

let count = 0;

/** Something is begun; call what is given back when it has ended. */
export function begin(words: string, stop?: () => void): () => void {
  const wait = { key: ++count, words, stop };
  let since = 0;
  const timer = window.setTimeout(() => {
    since = performance.now();
    useWaiting.setState(({ items }) => ({ items: [...items, wait] }));
  }, QUIET);
  return () => {
    window.clearTimeout(timer);
    if (!since) return;
    // nothing is left to be called off
    useWaiting.setState(({ items }) => ({
      items: items.map((item) => (item.key === wait.key ? { ...item, stop: undefined } : item)),
    }));
    const away = () => useWaiting.setState(({ items }) => ({ items: items.filter((item) => item.key !== wait.key) }));
    window.setTimeout(away, Math.max(LEAST - (performance.now() - since), 0));
  };
}
