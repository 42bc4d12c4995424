/** What this window keeps over a reload of its page. */
import { readJson } from "./json";

/** Keep something under a name; null: no longer. */
export function keep(name: string, value: object | null) {
  if (value) sessionStorage.setItem(name, JSON.stringify(value));
  else sessionStorage.removeItem(name);
}

/** What is kept under a name, as far as there is anything. */
export const kept = <T extends object>(name: string) => readJson(sessionStorage.getItem(name) ?? "") as Partial<T>;

/** The same, which is kept no longer. */
export function takeKept<T extends object>(name: string): Partial<T> {
  const value = kept<T>(name);
  keep(name, null);
  return value;
}

/** Do something when the page is left, or loaded anew. */
export const onLeaving = (work: () => void) => window.addEventListener("pagehide", work);
