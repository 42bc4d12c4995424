/**
 * The one way to change a session.
 *
 * Edits go one after the other, each with the newest revision. The server answers with what is different; where another window
 * was quicker, it does an edit that touches nothing of what changed there, and refuses any other. The session is loaded anew then.
 */
import { api, type Changed } from "../../api/client";
import { inGesture } from "../../api/transport";
import { capital } from "../../parts/format";
import { newId } from "../../parts/ids";
import { complain, tell } from "../../parts/messages";
import { Problem } from "../../parts/problem";
import { inHand, useView } from "../view/view";
import { type Over as Heard, hearEdit, wasAnswered, wasDropped } from "./ear";
import type { Over } from "./over";
import { received, type SessionModel, useSession } from "./session";

/** What an edit makes of what is shown, and what is heard of it, before it is answered. */
export interface Meant {
  over?: Over;
  heard?: Heard;
  /** What is done to what, of an edit that goes on with the one before it: a press of a key, a step of a slider. */
  gesture?: string;
}

/** How long (ms) after the last edit of a gesture one more belongs to it. */
const TOGETHER = 2000;
let gesture = { what: "", name: "", at: 0 };

/** The name of the gesture that an edit is part of; empty for none. */
function gestureOf(what = ""): string {
  const now = performance.now();
  const goesOn = what !== "" && what === gesture.what && now - gesture.at < TOGETHER;
  gesture = { what, name: goesOn ? gesture.name : what && newId(), at: now };
  return gesture.name;
}

/**
 * What is done to one session, one after the other. It goes on by itself when the session is left, and nothing of it reaches
 * another one.
 */
class Line {
  private tail: Promise<unknown> = Promise.resolve();
  private waiting: Promise<void> | null = null;
  private telling: Promise<void> | null = null;
  private left: SessionModel["header"] = null;
  /** How many edits are not answered, and the one that was made last, until it is. */
  count = 0;
  newest: Promise<unknown> | null = null;
  /** What the server said last, while edits are laid over it. */
  private said: SessionModel | null = null;
  private readonly pending = new Set<Over>();

  constructor(readonly id: string) {}

  get isOpen(): boolean {
    return useSession.getState().id === this.id;
  }

  /** What the server said last of the session, while it is open. Only edits look at it; all else looks at what is shown. */
  get confirmed(): SessionModel {
    return this.said ?? useSession.getState();
  }

  /** What was told last of the session; while it is opened again, that is what it was left with. */
  get header(): SessionModel["header"] {
    return (this.isOpen ? this.confirmed.header : null) ?? this.left;
  }

  /** Lay an edit over what is shown, until it is answered. */
  lay(over: Over): void {
    if (!this.isOpen || !useSession.getState().header) return;
    this.said ??= useSession.getState();
    this.pending.add(over);
    this.show();
  }

  /** Take in an answer, and what an edit was laid over away with it; null: it was not done. */
  receive(answer: Changed | null, over?: Over, isAll = false): void {
    if (over) this.pending.delete(over);
    // one that is opened again is shown when all of it is told
    if (!this.isOpen || !(isAll || this.confirmed.header)) {
      if (answer) this.left = answer;
      return;
    }
    if (answer) this.said = received(this.confirmed, answer);
    this.show();
  }

  /** What is shown is what was said, with all edits over it that are on their way, in their order. */
  private show(): void {
    const { said } = this;
    if (!said) return;
    if (this.pending.size === 0) this.said = null;
    let shown = said;
    for (const over of this.pending) shown = { ...shown, ...over(shown) };
    useSession.setState(shown);
  }

  leave(): void {
    this.left = this.header;
    this.said = null;
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

/** The session is left: what was done to it goes on, and nothing of it is asked for any more. */
export function closeSession() {
  lineOf().leave();
  useSession.setState({ id: "", header: null, clips: {}, marks: {} });
}

/** Have a session told whole; ``arrived`` is called with it, before anything of it is drawn. */
export async function openSession(id: string, arrived?: () => void): Promise<void> {
  if (useSession.getState().id !== id) {
    closeSession();
    useSession.setState({ id });
  }
  const line = lineOf(id);
  // what was done to it before it was left comes first
  await line.after(() => tellWhole(line, arrived));
}

async function tellWhole(line: Line, arrived?: () => void): Promise<void> {
  const first = line.isOpen ? useView.getState().focus : undefined;
  const answer = await api.session(line.id, { first });
  line.receive(answer, undefined, true);
  if (!line.isOpen) return;
  arrived?.();
  if (answer.told) tell(`${capital(answer.told)}.`);
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
    if (answer.revision === line.header?.revision) line.receive(answer);
    else void line.reload();
  } catch (error) {
    complain(error);
  }
}

/** Load the session again, after a job has changed it or another window has. */
export const reload = () => lineOf().reload();

/** Something that belongs to the session was refused for being of an older state: have it as it is now. */
export const catchUp = () => lineOf().refresh();

/**
 * A session is said to have come to a revision. Where no edit from here led to it, all of the session is told anew, after what
 * is on its way.
 */
export function cameElsewhere(id: string, revision: number) {
  const line = lineOf(id);
  const isNew = () => line.isOpen && revision > (line.header?.revision ?? revision);
  if (!isNew()) return;
  void line.settled().then(() => {
    if (isNew()) void line.refresh();
  });
}

/** Wait until the edits that were made so far have been answered. */
export const edited = () => lineOf().settled();

/** What is worked with when its turn has come is what the server said last. */
type Work = (
  revision: number,
  sessionId: string,
  header: NonNullable<SessionModel["header"]>,
  said: SessionModel,
) => Promise<Changed | null> | null;

/**
 * Run an edit, whose ``words`` say what it does, after those before it; resolves to whether it was done and its session is
 * still open. Work that finds nothing to do gives null. What is ``meant`` is shown and heard at once, until the server has
 * answered.
 */
export function edit(words: string, work: Work, meant: Meant = {}): Promise<boolean> {
  const line = lineOf();
  onItsWay(1);
  let isAlone = ++line.count === 1;
  if (meant.over) line.lay(meant.over);
  const heard = meant.heard?.line.length ? hearEdit(meant.heard) : null;
  const name = gestureOf(meant.gesture);
  const done = line.after(async () => {
    const { header } = line;
    let answer: Changed | null = null;
    try {
      if (header) answer = await inGesture(name, () => work(header.revision, line.id, header, line.confirmed));
    } catch (error) {
      isAlone &&= line.count === 1;
      // what was meant is shown until what is so instead is here
      if (error instanceof Problem && error.status === 409) await tellWhole(line).catch(complain);
      if (heard) wasDropped(heard);
      line.receive(null, meant.over);
      complain(named(error, words, isAlone, line.isOpen ? "" : (header?.name ?? "")));
      return false;
    }
    line.receive(answer, meant.over);
    // another window was at work as well: what it did is not in this answer
    if (header && answer && answer.revision > header.revision + 1) void line.refresh();
    if (heard) {
      if (!answer) wasDropped(heard);
      else wasAnswered(heard, answer.tracks, answer.revision);
    }
    if (answer?.told && line.isOpen) tell(`${capital(answer.told)}.`);
    return answer !== null && line.isOpen;
  });
  line.newest = done;
  return done.finally(() => {
    line.count--;
    if (line.newest === done) line.newest = null;
    onItsWay(-1);
  });
}

/** Wait until no edit of the open session is on its way. */
export async function allAnswered(): Promise<void> {
  for (let edit = lineOf().newest; edit; edit = lineOf().newest) await edit;
}

let onTheirWay = 0;

// what is shown is not kept yet: a page that is left now would lose it
window.addEventListener("beforeunload", (event) => {
  if (onTheirWay) event.preventDefault();
});

/** How many edits are not answered yet is told at the page itself, for whoever looks after it from outside. */
function onItsWay(change: 1 | -1) {
  onTheirWay += change;
  const { dataset } = document.documentElement;
  if (onTheirWay) dataset.edits = String(onTheirWay);
  else delete dataset.edits;
}

/** What went wrong, and with what: where others are on their way, and elsewhere, nobody knows what it was. */
function named(error: unknown, words: string, isAlone: boolean, session: string): unknown {
  if (!(error instanceof Problem)) return error;
  const place = session && `In “${session}”: `;
  const what = isAlone && !session ? "" : `${place ? "not" : "Not"} done: ${words}. `;
  return new Problem(error.status, `${place}${what}${error.message}`, error.kind, error.command);
}

/** Tell what the newest edit was, and what it could not do: one message for one act. */
export function tellDone() {
  const { label = "", told = "" } = useSession.getState().header ?? {};
  // what the name of a step says already is not said twice
  const more = told && !label.includes(told) ? `${capital(told)}.` : "";
  tell([label || "Done", more].filter(Boolean).join(". "));
}

/** Run an edit; whether it was done and what was in hand still is, so that what it made may be handed over. */
export async function editInHand(words: string, work: Work): Promise<boolean> {
  const isStill = inHand();
  return (await edit(words, work)) && isStill();
}

/** Walk a step through the history. Which one that is, is known only when the edits before it have been answered. */
async function walk(way: "undo" | "redo", said: string) {
  let label: string | null = null;
  const done = await edit(way === "undo" ? "undo" : "do it again", (revision, id, header) => {
    label = header[way] ?? null;
    return label === null ? null : api[way](id, revision);
  });
  if (done) tell(`${said}: ${label}`);
}

export const undo = () => walk("undo", "Undone");
export const redo = () => walk("redo", "Done again");
