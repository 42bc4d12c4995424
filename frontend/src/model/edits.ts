/**
 * The one way to change a session.
 *
 * Edits go one after the other, each with the newest revision. The server answers with what is different; a stale write
 * (another window was quicker) loads the session anew.
 */
import { api, type Changed } from "../api/client";
import { capital } from "../parts/format";
import { complain, tell } from "../parts/messages";
import { Problem } from "../parts/problem";
import { receive, type SessionModel, useSession } from "./session";
import { inHand, useView } from "./view";

/**
 * What is done to one session, one after the other. It goes on by itself when the session is left, and nothing of it reaches
 * another one.
 */
class Line {
  private tail: Promise<unknown> = Promise.resolve();
  private waiting: Promise<void> | null = null;
  private telling: Promise<void> | null = null;
  private left: SessionModel["header"] = null;

  constructor(readonly id: string) {}

  get isOpen(): boolean {
    return useSession.getState().id === this.id;
  }

  /** What was told last of the session. */
  get header(): SessionModel["header"] {
    return this.isOpen ? useSession.getState().header : this.left;
  }

  receive(answer: Changed): void {
    if (this.isOpen) receive(answer);
    else this.left = answer;
  }

  leave(): void {
    this.left = this.header;
  }

  /** Do something after all that came before, whatever became of that. */
  after<T>(work: () => Promise<T>): Promise<T> {
    const done = this.tail.then(work);
    this.tail = done.catch(() => {});
    return done;
  }

  settled(): Promise<unknown> {
    return this.tail;
  }

  /** Have all of it told anew, once for all who ask before that is begun. */
  reload(): Promise<void> {
    this.waiting ??= this.after(() => {
      this.waiting = null;
      return tellWhole(this);
    }).catch(complain);
    return this.waiting;
  }

  /** The same for those to whom an answer that is on its way already is good enough. */
  refresh(): Promise<void> {
    this.telling ??= this.reload().finally(() => {
      this.telling = null;
    });
    return this.telling;
  }
}

const lines = new Map<string, Line>();

/** That of the open session, or of another. */
function lineOf(id = useSession.getState().id): Line {
  const line = lines.get(id) ?? new Line(id);
  lines.set(id, line);
  return line;
}

/** Have a session told whole; ``arrived`` is called with it, before anything of it is drawn. */
export async function openSession(id: string, arrived?: () => void): Promise<void> {
  if (useSession.getState().id !== id) {
    lineOf().leave();
    useSession.setState({ id, header: null, clips: {}, marks: {} });
  }
  const line = lineOf(id);
  // what was done to it before it was left comes first
  await line.after(() => tellWhole(line, arrived));
}

async function tellWhole(line: Line, arrived?: () => void): Promise<void> {
  const first = line.isOpen ? useView.getState().focus : undefined;
  const answer = await api.session(line.id, { first });
  line.receive(answer);
  if (!line.isOpen) return;
  arrived?.();
  const whole = new Set(answer.whole);
  for (const track of answer.tracks) if (!whole.has(track.id)) void line.after(() => complete(line, track.id));
}

/** Have the clips and marks of a track that did not come with the session, between edits. */
async function complete(line: Line, track: string): Promise<void> {
  if (!line.isOpen || !line.header?.tracks.some((one) => one.id === track)) return;
  try {
    const answer = await api.session(line.id, { only: track });
    if (!line.isOpen) return;
    // another window may have edited meanwhile: then all of it is told anew
    if (answer.revision === line.header?.revision) receive(answer);
    else void line.reload();
  } catch (error) {
    complain(error);
  }
}

/** Load the session again, after a job has changed it or another window has. */
export const reload = () => lineOf().reload();

/** Something that belongs to the session was refused for being of an older state: have it as it is now. */
export const catchUp = () => lineOf().refresh();

/** Wait until the edits that were made so far have been answered. */
export const edited = () => lineOf().settled();

type Work = (
  revision: number,
  sessionId: string,
  header: NonNullable<SessionModel["header"]>,
) => Promise<Changed | null> | null;

/**
 * Run an edit after those before it; resolves to whether it was done and its session is still open. Work that finds nothing
 * to do gives null.
 */
export function edit(work: Work): Promise<boolean> {
  const line = lineOf();
  return line.after(async () => {
    const { header } = line;
    if (!header) return false;
    try {
      const answer = await work(header.revision, line.id, header);
      if (!answer) return false;
      line.receive(answer);
      if (answer.told && line.isOpen) tell(`${capital(answer.told)}.`);
      return line.isOpen;
    } catch (error) {
      if (error instanceof Problem && error.status === 409) await tellWhole(line).catch(complain);
      complain(line.isOpen ? error : elsewhere(header.name, error));
      return false;
    }
  });
}

const elsewhere = (name: string, error: unknown) =>
  error instanceof Problem ? new Problem(error.status, `In “${name}”: ${error.message}`, error.kind) : error;

/** Tell what the newest edit was, and what it could not do: one message for one act. */
export function tellDone() {
  const { label, told } = useSession.getState().header ?? {};
  tell([label || "Done", told ? `${capital(told)}.` : ""].filter(Boolean).join(". "));
}

/** Run an edit; whether it was done and what was in hand still is, so that what it made may be handed over. */
export async function editInHand(work: Parameters<typeof edit>[0]): Promise<boolean> {
  const isStill = inHand();
  return (await edit(work)) && isStill();
}

/** Walk a step through the history. Which one that is, is known only when the edits before it have been answered. */
async function walk(way: "undo" | "redo", said: string) {
  let label: string | null = null;
  const done = await edit((revision, id, header) => {
    label = header[way] ?? null;
    return label === null ? null : api[way](id, revision);
  });
  if (done) tell(`${said}: ${label}`);
}

export const undo = () => walk("undo", "Undone");
export const redo = () => walk("redo", "Done again");
