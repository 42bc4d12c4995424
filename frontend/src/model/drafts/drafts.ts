/**
 * Drafts: proposals that lie over a session until they are accepted or dropped.
 *
 * A draft belongs to the session as it is now. It is asked for once the edits before it have been answered, and again
 * after every edit while it is on view. It goes with the track, the stage and the session that it was made in.
 *
 * What is accepted is what is on view: the values that it was made of, and its stamp, by which the server knows it again.
 */
import type { Changed } from "../../api/client";
import { keep, onLeaving, takeKept } from "../../parts/kept";
import { complain } from "../../parts/messages";
import { edit, edited, type Meant } from "../server/edits";
import { useSession } from "../server/session";
import { useView } from "../view/view";

/** How a draft outlives a reload: what it is called, what it was asked for with, and how that is taken up again. */
interface Kept<K> {
  name: string;
  read: () => K;
  put: (kept: K) => void;
}

interface Known {
  readonly isOut: boolean;
  readonly kept?: { name: string; read: () => unknown; put: (kept: never) => void };
  make: () => Promise<void>;
  follow: () => void;
  drop: () => void;
}

const all: Known[] = [];

/** Whether a draft of these values is one of those; they are what is sent, plain numbers and words. */
const same = (these: unknown, those: unknown) => JSON.stringify(these) === JSON.stringify(those);

export class Drafts<T, V = unknown, K = unknown> {
  private wanted = false;
  private shown: { values: V; draft: T } | null = null;
  /** Whether what is on view, or on its way, is of a state or of values that have changed since. */
  private stale = false;
  private running: Promise<void> | null = null;
  /** Counts what was asked for by itself: an answer to what was dropped meanwhile is not shown. */
  private life = 0;

  /** ``values`` are those that hold now, ``ask`` has a draft made of them; ``put`` puts it on view, or takes it away. */
  constructor(
    private readonly values: () => V | undefined,
    private readonly ask: (values: V) => Promise<T>,
    private readonly put: (draft: T | null) => void,
    readonly kept?: Kept<K>,
  ) {
    all.push(this);
  }

  /** Have a draft made, or made again: at most one is on its way, and of what is asked for meanwhile the last counts. */
  make(): Promise<void> {
    this.wanted = this.stale = true;
    this.running ??= this.run().finally(() => {
      this.running = null;
    });
    return this.running;
  }

  /** Whether one is on view or on its way. */
  get isOut(): boolean {
    return this.wanted;
  }

  /** Have it made again if there is one. */
  follow(): void {
    if (this.wanted) void this.make();
  }

  drop(): void {
    this.leave();
    this.show(null);
  }

  /**
   * Run the edit that makes the draft on view hold; where that fails it is made again. Where the hand has set other values than
   * it is of, they are what is meant: their draft comes on view first. There is nothing to accept where none was asked for.
   */
  async accept(
    words: string,
    work: (revision: number, values: V, draft: T) => Promise<Changed>,
    meant?: (draft: T) => Meant,
  ): Promise<boolean> {
    // whoever asks twice while it is waited for is answered once
    if (!(await this.isMeant()) || !this.wanted) return false;
    const shown = this.shown!;
    this.leave();
    const { life } = this;
    const done = await edit(words, (revision) => work(revision, shown.values, shown.draft), meant?.(shown.draft));
    // one that was asked for meanwhile is another one
    if (life !== this.life || this.wanted) return done;
    if (done) this.show(null);
    else void this.make();
    return done;
  }

  /** Whether the draft on view is of what the hand has set, once it can be; nothing is waited for where it is. */
  private async isMeant(): Promise<boolean> {
    const { life } = this;
    const meant = this.values();
    const isThere = () => this.wanted && this.shown !== null && same(this.shown.values, meant);
    if (isThere()) return true;
    if (this.wanted) await this.make();
    return isThere() && life === this.life;
  }

  private show(draft: T | null, values?: V) {
    this.shown = draft === null ? null : { values: values!, draft };
    this.put(draft);
  }

  private leave() {
    this.wanted = false;
    this.life++;
  }

  private async run() {
    while (this.wanted && this.stale) {
      await edited();
      this.stale = false;
      const { life } = this;
      const revision = useSession.getState().header?.revision;
      try {
        const values = this.wanted ? this.values() : undefined;
        const draft = values === undefined ? undefined : await this.ask(values);
        const holds = life === this.life && revision === useSession.getState().header?.revision;
        if (draft !== undefined && holds) this.show(draft, values);
      } catch (error) {
        if (life !== this.life) continue;
        this.drop();
        complain(error);
      }
    }
  }
}

/** Take away whatever is on view or on its way; whether there was anything. */
export function dropDrafts(): boolean {
  const wasOut = all.some((drafts) => drafts.isOut);
  for (const drafts of all) drafts.drop();
  return wasOut;
}

const draftsOf = (session: string) => `drafts ${session}`;

// what is on view when the page is loaded anew is made again: it holds for this window only
onLeaving(() => {
  const { id } = useSession.getState();
  const out = all.flatMap((drafts) => (drafts.isOut && drafts.kept ? [[drafts.kept.name, drafts.kept.read()]] : []));
  if (id && out.length) keep(draftsOf(id), Object.fromEntries(out));
});

/** Make the drafts again that were on view when the page of a session was left. */
export function draftsAgain(session: string) {
  const known = takeKept<Record<string, never>>(draftsOf(session));
  for (const drafts of all) {
    if (!drafts.kept || !(drafts.kept.name in known)) continue;
    drafts.kept.put(known[drafts.kept.name]!);
    void drafts.make();
  }
}

useSession.subscribe((now, old) => {
  if (now.id !== old.id) dropDrafts();
  else if (now.header?.revision !== old.header?.revision) for (const drafts of all) drafts.follow();
});
useView.subscribe((now, old) => {
  if (now.stage !== old.stage || now.focus !== old.focus) dropDrafts();
});
