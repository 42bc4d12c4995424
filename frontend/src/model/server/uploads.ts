/** Files on their way to the server. Each goes by itself: one that is refused does not hold up the others. */
import { create } from "zustand";
import { jobsAgain } from "../../api/cache";
import { api } from "../../api/client";
import { keep, onLeaving, takeKept } from "../../parts/kept";
import { complain } from "../../parts/messages";
import { Problem } from "../../parts/problem";

export interface Upload {
  key: number;
  session: string;
  name: string;
  share: number;
  error: string | null;
  abort: AbortController;
}

export const useUploads = create<{ items: Upload[] }>(() => ({ items: [] }));

/** Files that were dropped together: their imports, and the lane that they go to, if they were dropped onto one. */
export interface Batch {
  session: string;
  waits: number;
  jobs: string[];
  onto: Lane | null;
}

/** A place in a lane: of which track, maybe of which take, and at how many seconds. */
export interface Lane {
  track: string;
  take?: number;
  at: number;
}

export const useBatches = create<{ items: Batch[] }>(() => ({ items: [] }));

let next = 1;
/** Files go one after the other: so the first is worked on soonest, and tracks stand in the order of their files. */
let line: Promise<void> = Promise.resolve();

const patch = (key: number, change: Partial<Upload>) =>
  useUploads.setState(({ items }) => ({ items: items.map((u) => (u.key === key ? { ...u, ...change } : u)) }));

export const dismissUpload = (key: number) =>
  useUploads.setState(({ items }) => ({ items: items.filter((u) => u.key !== key) }));

export const upload = (session: string, files: File[]) => bring(session, files, null);

/** Bring files in, one after the other onto a lane from where they were dropped. */
export const dropOnto = (session: string, files: File[], onto: Lane) => bring(session, files, onto);

function bring(session: string, files: File[], onto: Lane | null): void {
  const batch: Batch = { session, waits: files.length, jobs: [], onto };
  if (onto || files.length > 1) useBatches.setState(({ items }) => ({ items: [...items, batch] }));
  for (const [place, file] of files.entries()) {
    const item: Upload = { key: next++, session, name: file.name, share: 0, error: null, abort: new AbortController() };
    useUploads.setState(({ items }) => ({ items: [...items, item] }));
    line = line.then(async () => {
      const job = await send(item, file);
      if (job) batch.jobs[place] = job;
      batch.waits--;
      useBatches.setState(({ items }) => ({ items: [...items] }));
    });
  }
}

/** Send a file; the id of its import, or null if there is none. */
async function send(item: Upload, file: File): Promise<string | null> {
  if (item.abort.signal.aborted) return null;
  try {
    const job = await api.upload(item.session, file, (share) => patch(item.key, { share }), item.abort.signal);
    dismissUpload(item.key);
    await jobsAgain(item.session);
    return job.id;
  } catch (error) {
    if (item.abort.signal.aborted) dismissUpload(item.key);
    else patch(item.key, { error: error instanceof Problem ? error.message : `“${file.name}” could not be uploaded.` });
    return null;
  }
}

const cutOff = (session: string) => `cut off ${session}`;

// a page that is left takes what it was sending with it: that is told where it was to go to
onLeaving(() => {
  const bySession = new Map<string, string[]>();
  for (const { session, name, error } of useUploads.getState().items)
    if (error === null) bySession.set(session, [...(bySession.get(session) ?? []), name]);
  for (const [session, names] of bySession) keep(cutOff(session), { names });
});

/** Say which files of a session were still on their way when the page was left. */
export function tellCutOff(session: string) {
  const { names = [] } = takeKept<{ names: string[] }>(cutOff(session));
  if (names.length === 0) return;
  const all = names.map((name) => `“${name}”`).join(", ");
  const [were, what] = names.length === 1 ? ["was", "it"] : ["were", "them"];
  complain(new Problem(0, `${all} ${were} still uploading when the page was closed. Choose ${what} again.`));
}

export function stopUpload(item: Upload) {
  item.abort.abort();
  dismissUpload(item.key);
}
