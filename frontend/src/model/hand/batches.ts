/** Files that were dropped together: once all of them are in, they are laid onto their lane, or a way to lay them out is offered. */
import type { Job } from "../../api/client";
import { keep, onLeaving, takeKept } from "../../parts/kept";
import { reload } from "../server/edits";
import { useSession } from "../server/session";
import { type Batch, type Lane, useBatches } from "../server/uploads";
import { useView } from "../view/view";
import { moveClips, offerLayout } from "./timeline";

/** Imports that are over, and the track that each made. */
const settled = new Map<string, string | null>();

const KEPT = "batches";

// what came together belongs together after a reload as well; what had not been sent is not part of it any more
onLeaving(() => {
  const items = useBatches.getState().items.map((batch) => ({ ...batch, waits: 0, jobs: batch.jobs.filter(Boolean) }));
  keep(KEPT, items.length ? { items, settled: [...settled] } : null);
});

/** Take up what was being brought in together when the page was left. */
export function batchesAgain() {
  const { items: were = [], settled: over = [] } = takeKept<{ items: Batch[]; settled: [string, string | null][] }>(
    KEPT,
  );
  for (const [job, track] of over) settled.set(job, track);
  useBatches.setState(({ items }) => ({ items: [...were, ...items] }));
}

/** Take note of imports that are over. */
export function noteSettled(jobs: Job[]) {
  for (const job of jobs) settled.set(job.id, job.state === "done" ? (job.track ?? null) : null);
  void layOutBatches();
}

/** What was dropped together and is all there is laid onto its lane, or a way to lay it out is offered. */
export async function layOutBatches() {
  const { id } = useSession.getState();
  const { items } = useBatches.getState();
  const ready = items.filter(
    (batch) => batch.session === id && batch.waits === 0 && batch.jobs.every((job) => settled.has(job)),
  );
  if (ready.length === 0) return;
  useBatches.setState({ items: items.filter((batch) => !ready.includes(batch)) });
  await reload();
  for (const batch of ready) {
    const tracks = batch.jobs.flatMap((job) => settled.get(job) ?? []);
    if (batch.onto) await layOnto(batch.onto, tracks);
    else {
      const voices = useSession.getState().header?.tracks.filter((track) => track.kind === "voice") ?? [];
      await offerLayout(
        id,
        tracks.filter((track) => voices.some((voice) => voice.id === track)),
      );
    }
  }
}

/** Lay the clips of new tracks one after the other onto a lane; the tracks, left empty, go. */
async function layOnto({ track, take, at }: Lane, tracks: string[]) {
  for (const fresh of tracks) {
    const { clips, header } = useSession.getState();
    const own = (clips[fresh] ?? []).map((clip) => clip.id);
    const length = header?.tracks.find((one) => one.id === fresh)?.timeline.duration ?? 0;
    if (own.length > 0 && (await moveClips(fresh, own, { by: at, track, take }))) at += length;
  }
  useView.setState({ focus: track });
}
