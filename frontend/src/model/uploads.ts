/** Files on their way to the server. Each goes by itself: one that is refused does not hold up the others. */
import { create } from "zustand";
import { queries } from "../api/cache";
import { api, Problem } from "../api/client";

export interface Upload {
  key: number;
  session: string;
  name: string;
  share: number;
  error: string | null;
  abort: AbortController;
}

export const useUploads = create<{ items: Upload[] }>(() => ({ items: [] }));

const AT_ONCE = 2;
let next = 1;
let running = 0;
const waiting: (() => Promise<void>)[] = [];

const patch = (key: number, change: Partial<Upload>) =>
  useUploads.setState(({ items }) => ({ items: items.map((u) => (u.key === key ? { ...u, ...change } : u)) }));

export const dismissUpload = (key: number) =>
  useUploads.setState(({ items }) => ({ items: items.filter((u) => u.key !== key) }));

export function upload(session: string, files: File[]): void {
  for (const file of files) {
    const item: Upload = { key: next++, session, name: file.name, share: 0, error: null, abort: new AbortController() };
    useUploads.setState(({ items }) => ({ items: [...items, item] }));
    waiting.push(() => send(item, file));
  }
  pump();
}

function pump() {
  while (running < AT_ONCE && waiting.length > 0) {
    running++;
    const work = waiting.shift()!;
    void work().finally(() => {
      running--;
      pump();
    });
  }
}

async function send(item: Upload, file: File) {
  if (item.abort.signal.aborted) return;
  try {
    await api.upload(item.session, file, (share) => patch(item.key, { share }), item.abort.signal);
    dismissUpload(item.key);
    await queries.invalidateQueries({ queryKey: ["jobs", item.session] });
  } catch (error) {
    if (item.abort.signal.aborted) dismissUpload(item.key);
    else patch(item.key, { error: error instanceof Problem ? error.message : `“${file.name}” could not be sent.` });
  }
}

export function stopUpload(item: Upload) {
  item.abort.abort();
  dismissUpload(item.key);
}
