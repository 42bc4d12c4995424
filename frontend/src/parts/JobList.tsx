/** Long work: what is going on, how far it is, stopping it, and what became of it. */
import { ActionIcon, Anchor, Progress } from "@mantine/core";
import { IconAlertTriangle, IconCheck, IconDownload, IconX } from "@tabler/icons-react";
import { useEffect, useRef } from "react";
import { queries } from "../api/cache";
import { api, type Job } from "../api/client";
import { useJobs } from "../api/queries";
import { reload, useSession } from "../model/session";
import { moveClips, offerLayout } from "../model/timeline";
import { dismissUpload, type Lane, stopUpload, useBatches, useUploads } from "../model/uploads";
import { useView } from "../model/view";
import { complain } from "./messages";

const dismissed = new Set<string>();

/** Imports that are over, and the track that each made. */
const settled = new Map<string, string | null>();

/** What was dropped together and is all there is laid onto its lane, or a way to lay it out is offered. */
async function layOutBatches() {
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
    else await offerLayout(id, tracks);
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

const isOpen = (job: Job) => job.state === "waiting" || job.state === "running";

/** Loads the session again when an import has finished, wherever the person is. */
export function useFinishedImports() {
  const { data } = useJobs();
  const open = useRef(new Set<string>());
  useEffect(() => {
    const now = new Set((data ?? []).filter((job) => job.kind === "import" && isOpen(job)).map((job) => job.id));
    const finished = (data ?? []).filter((job) => job.kind === "import" && job.state === "done");
    const known = new Set(useSession.getState().header?.tracks.map((track) => track.id));
    const fresh = finished.some((job) => open.current.has(job.id) || (job.track && !known.has(job.track)));
    open.current = now;
    if (fresh) void reload();
    for (const job of data ?? [])
      if (job.kind === "import" && !isOpen(job)) settled.set(job.id, job.state === "done" ? (job.track ?? null) : null);
    void layOutBatches();
    // an import that went well needs no line of its own: its track is there
    for (const job of finished) {
      if (dismissed.has(job.id)) continue;
      dismissed.add(job.id);
      void api.dismissJob(job.id).catch(() => {});
    }
  }, [data]);
  useEffect(() => useBatches.subscribe(() => void layOutBatches()), []);
}

export function JobList({ kind }: { kind: "import" | "render" }) {
  const id = useSession((s) => s.id);
  const { data } = useJobs();
  const uploads = useUploads((s) => s.items).filter((u) => kind === "import" && u.session === id);
  const jobs = (data ?? []).filter((job) => job.kind === kind && !(kind === "import" && job.state === "done"));
  const refresh = () => queries.invalidateQueries({ queryKey: ["jobs", id] });
  if (jobs.length + uploads.length === 0) return null;
  return (
    <ul className="jobs" aria-label={kind === "import" ? "Being brought in" : "Renders"}>
      {uploads.map((u) => (
        <Line
          key={u.key}
          name={u.name}
          state={u.error ? "failed" : "running"}
          text={u.error ?? "sending"}
          percent={u.share * 100}
          onStop={() => (u.error ? dismissUpload(u.key) : stopUpload(u))}
        />
      ))}
      {jobs.map((job) => (
        <Line
          key={job.id}
          name={job.name}
          state={job.state}
          text={isOpen(job) ? job.message || job.stage : job.message}
          percent={job.percent}
          href={job.file ? api.renderedFile(job.id) : undefined}
          onStop={() =>
            (isOpen(job) ? api.cancelJob(job.id) : api.dismissJob(job.id)).catch(complain).finally(() => void refresh())
          }
        />
      ))}
    </ul>
  );
}

interface LineProps {
  name: string;
  state: string;
  text: string;
  percent: number;
  href?: string;
  onStop: () => void;
}

function Line({ name, state, text, percent, href, onStop }: LineProps) {
  const open = state === "running" || state === "waiting";
  return (
    <li className="job" data-state={state}>
      <div className="job-head">
        {state === "failed" && <IconAlertTriangle size={14} className="loud" aria-hidden />}
        {state === "done" && <IconCheck size={14} className="level" aria-hidden />}
        {href ? (
          <Anchor href={href} download className="job-name" size="sm">
            <IconDownload size={13} /> {name}
          </Anchor>
        ) : (
          <span className="job-name">{name}</span>
        )}
        <ActionIcon
          size="sm"
          variant="subtle"
          aria-label={open ? `Stop ${name}` : `Take ${name} off the list`}
          onClick={onStop}
        >
          <IconX size={14} />
        </ActionIcon>
      </div>
      {open && <Progress value={percent} size={4} aria-label={`${name}: ${text}`} color="petrol" />}
      {text && (
        <p className="note" role={state === "failed" ? "alert" : undefined}>
          {text}
          {open && ` ${percent.toFixed(0)} %`}
        </p>
      )}
    </li>
  );
}
