/** Long work: what is going on, how far it is, stopping it, and what became of it. */
import { ActionIcon, Anchor, Button, Checkbox, Progress } from "@mantine/core";
import { IconAlertTriangle, IconCheck, IconDownload, IconX } from "@tabler/icons-react";
import { useEffect, useRef, useState } from "react";
import { jobsAgain } from "../api/cache";
import { api, type Job } from "../api/client";
import { layOutBatches, noteSettled } from "../model/hand/batches";
import { reload } from "../model/server/edits";
import { useJobs } from "../model/server/queries";
import { useSession } from "../model/server/session";
import { dismissUpload, stopUpload, useBatches, useUploads } from "../model/server/uploads";
import { complain, tell } from "../parts/messages";
import { useRoving } from "../parts/roving";
import "./JobList.css";

const dismissed = new Set<string>();

const OPEN = new Set(["waiting", "running", "asks"]);
const isOpen = (job: Job) => OPEN.has(job.state);
/** Whether two jobs ask the very same. */
const asksAlike = (a: Job, b: Job) =>
  a.state === b.state && a.state === "asks" && a.options.join() === b.options.join();

/** Loads the session again when an import has finished, wherever the person is. */
export function useFinishedImports() {
  const { data } = useJobs();
  const open = useRef(new Set<string>());
  const isThere = useSession((s) => s.header !== null);
  useEffect(() => {
    const now = new Set((data ?? []).filter((job) => job.kind === "import" && isOpen(job)).map((job) => job.id));
    const finished = (data ?? []).filter((job) => job.kind === "import" && job.state === "done");
    const tracks = useSession.getState().header?.tracks;
    // one that is still being loaded is looked at when it is there: what it holds may be from before the import
    const isNew = (track: string) => isThere && !tracks?.some((one) => one.id === track);
    const fresh = finished.some((job) => open.current.has(job.id) || (job.track && isNew(job.track)));
    open.current = now;
    if (fresh) void reload();
    noteSettled((data ?? []).filter((job) => job.kind === "import" && !isOpen(job)));
    // an import that went well needs no line of its own: its track is there
    for (const job of finished) {
      if (dismissed.has(job.id)) continue;
      dismissed.add(job.id);
      if (job.message) tell(job.message);
      void api.dismissJob(job.id).catch(() => {});
    }
  }, [data, isThere]);
  useEffect(() => useBatches.subscribe(() => void layOutBatches()), []);
}

/** When something was made, as the time of today or as a day. */
function when(made: string): string {
  const at = new Date(made);
  const isToday = at.toDateString() === new Date().toDateString();
  const time = at.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });
  return isToday ? time : `${at.toLocaleDateString("en-GB", { day: "numeric", month: "short" })}, ${time}`;
}

/** When a render was made, what is in it, and of what state it is. */
function madeOf(job: Job): string {
  // of one from an earlier version only the time is known
  const state = job.step ? `up to “${job.step}”` : "as it came in";
  const parts = [when(job.made), job.holds, job.holds && state];
  return parts.filter(Boolean).join(" · ");
}

export function JobList({ kind }: { kind: "import" | "render" }) {
  const id = useSession((s) => s.id);
  const revision = useSession((s) => s.header?.revision);
  const { data } = useJobs();
  const uploads = useUploads((s) => s.items).filter((u) => kind === "import" && u.session === id);
  const jobs = (data ?? []).filter((job) => job.kind === kind && !(kind === "import" && job.state === "done"));
  // a render is of the newest state until there is another one
  // biome-ignore lint/correctness/useExhaustiveDependencies: it is asked again with every revision
  useEffect(() => {
    if (kind === "render") void jobsAgain(id);
  }, [kind, id, revision]);
  const roving = useRoving({ axis: "either" });
  // whatever became of it, the list is told anew
  const lookAfter = (work: Promise<unknown>) => void work.catch(complain).finally(() => void jobsAgain(id));
  if (kind === "render") jobs.reverse();
  if (jobs.length + uploads.length === 0) return null;
  return (
    <ul className="jobs" ref={roving} aria-label={kind === "import" ? "Imports" : "Renders"}>
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
          made={kind === "render" && job.state === "done" ? madeOf(job) : ""}
          isOld={job.state === "done" && !job.current}
          percent={job.percent}
          options={job.options}
          usual={job.usual}
          others={jobs.filter((one) => one !== job && asksAlike(one, job)).length}
          onChoose={(choice, isForAll) => {
            const meant = isForAll ? jobs.filter((one) => asksAlike(one, job)) : [job];
            lookAfter(Promise.all(meant.map((one) => api.chooseInJob(one.id, choice))));
          }}
          href={job.file ? api.renderedFile(job.id) : undefined}
          onStop={() => lookAfter(isOpen(job) ? api.cancelJob(job.id) : api.dismissJob(job.id))}
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
  made?: string;
  isOld?: boolean;
  href?: string;
  /** What can be chosen where it asks, and the place of the likely one. */
  options?: string[];
  usual?: number;
  /** How many other jobs ask the same. */
  others?: number;
  onChoose?: (choice: number, isForAll: boolean) => void;
  onStop: () => void;
}

function Line(props: LineProps) {
  const { name, state, text, percent, made, isOld, href, options = [], usual, others = 0, onChoose, onStop } = props;
  const [isForAll, setForAll] = useState(false);
  const open = OPEN.has(state);
  const asks = state === "asks";
  return (
    <li className="job" data-state={state}>
      <div className="job-head">
        {state === "failed" && <IconAlertTriangle size={14} className="loud" aria-hidden />}
        {state === "done" && <IconCheck size={14} className="level" aria-hidden />}
        {href ? (
          <Anchor href={href} download className="job-name" size="sm" title={name}>
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
      {open && !asks && <Progress value={percent} size={4} aria-label={`${name}: ${text}`} color="petrol" />}
      {made && (
        <p className="note made">
          {isOld && <strong className="old">out of date</strong>} {made}
        </p>
      )}
      {text && (
        <p className="note" role={state === "failed" || asks ? "alert" : undefined}>
          {text}
          {open && !asks && ` ${percent.toFixed(0)} %`}
        </p>
      )}
      {asks && (
        <div className="job-options" role="group" aria-label={`Choose for ${name}`}>
          {options.map((words, place) => (
            <Button
              key={words}
              size="compact-xs"
              variant={place === usual ? "filled" : "default"}
              onClick={() => onChoose?.(place, isForAll && others > 0)}
            >
              {words}
            </Button>
          ))}
          {others > 0 && (
            <Checkbox
              size="xs"
              ml={6}
              label={others === 1 ? "The same for the other file" : `The same for the other ${others} files`}
              checked={isForAll}
              onChange={(event) => setForAll(event.currentTarget.checked)}
            />
          )}
        </div>
      )}
    </li>
  );
}
