/**
 * The open session as the server last told it, and the one way to change it.
 *
 * Edits go one after the other, each with the newest revision. The server answers with what is different; a stale write
 * (another window was quicker) loads the session anew.
 */
import { create } from "zustand";
import { api, type Changed, type Clip, Problem, type Track } from "../api/client";
import { complain, tell } from "../parts/messages";
import { hand } from "./view";

export interface SessionModel {
  id: string;
  header: Omit<Changed, "clips" | "removed"> | null;
  clips: Record<string, Clip[]>;
}

export const useSession = create<SessionModel>(() => ({ id: "", header: null, clips: {} }));

/** Put an answer of the server into the clips of a session: changed ones replace, removed ones go, order is by time. */
export function merge(clips: Record<string, Clip[]>, answer: Changed): Record<string, Clip[]> {
  const gone = new Set(answer.removed);
  const fresh = new Map(answer.clips.map((clip) => [clip.id, clip]));
  const touched = new Set(answer.clips.map((clip) => clip.track));
  const merged: Record<string, Clip[]> = {};
  for (const { id } of answer.tracks) {
    const old = clips[id] ?? [];
    if (!touched.has(id) && !old.some((clip) => gone.has(clip.id))) {
      merged[id] = old;
      continue;
    }
    const kept = old.filter((clip) => !gone.has(clip.id) && !fresh.has(clip.id));
    const added = answer.clips.filter((clip) => clip.track === id);
    merged[id] = [...kept, ...added].sort((a, b) => a.start - b.start);
  }
  return merged;
}

function receive(answer: Changed, whole: boolean) {
  const { clips, removed: _, ...header } = answer;
  useSession.setState((old) => ({
    id: answer.id,
    header,
    clips: merge(whole ? {} : old.clips, { ...answer, clips }),
  }));
}

let queue: Promise<unknown> = Promise.resolve();

export async function openSession(id: string): Promise<void> {
  if (useSession.getState().id !== id) useSession.setState({ id, header: null, clips: {} });
  const answer = await api.session(id);
  if (useSession.getState().id === id) receive(answer, true);
}

/** Load the session again, after a job has changed it or another window has. */
export const reload = () => {
  const { id } = useSession.getState();
  queue = queue.then(() => openSession(id)).catch(complain);
  return queue;
};

/** Run an edit after those before it; resolves to whether it was done. */
export function edit(work: (revision: number, sessionId: string) => Promise<Changed>): Promise<boolean> {
  const run = async () => {
    const { header, id } = useSession.getState();
    if (!header) return false;
    try {
      receive(await work(header.revision, id), false);
      return true;
    } catch (error) {
      if (error instanceof Problem && error.status === 409) await openSession(id).catch(complain);
      complain(error);
      return false;
    }
  };
  const done = queue.then(run);
  queue = done;
  return done;
}

export async function undo() {
  const label = useSession.getState().header?.undo;
  if (!label) return;
  if (await edit((revision, id) => api.undo(id, revision))) tell(`Undone: ${label}`);
}

export async function redo() {
  const label = useSession.getState().header?.redo;
  if (!label) return;
  if (await edit((revision, id) => api.redo(id, revision))) tell(`Done again: ${label}`);
}

export const trackOf = (model: SessionModel, id: string): Track | undefined =>
  model.header?.tracks.find((track) => track.id === id) ?? model.header?.tracks[0];

/** Clips of a phrase that counts: it has one and is not left out. */
export const isJudged = (clip: Clip) => clip.after !== null && !clip.left_out;

/** Gain of a clip with the hand's movement added while it is being dragged. */
export function heldGain(clip: Clip): number {
  const { ids, delta } = hand.drag;
  return delta !== 0 && ids.has(clip.id) && !clip.locked ? clip.gain + delta : clip.gain;
}

/** Deviation from the target with the hand's movement added; null without a phrase. */
export function deviation(clip: Clip, target: number): number | null {
  return clip.after === null ? null : clip.after - target + (heldGain(clip) - clip.gain);
}

export const isLevel = (value: number, tolerance: number) => Math.abs(value) <= tolerance + 1e-9;
