/** Taking a pass down while it plays: what has not been sent yet goes in pieces, and again until it has arrived. */
import { api, type HowWritten, type LaneName } from "../../api/client";
import { newId } from "../../parts/ids";
import { complain } from "../../parts/messages";
import { Problem } from "../../parts/problem";
import type { Span } from "../view/view";

const EVERY = 1000;
const MOST = 32_768;

/** One pass that is being taken down. */
export class Taking {
  readonly id = newId();
  private waiting: number[] = [];
  private sent = 0;
  private begun = false;
  private over = false;
  private work: Promise<void> | null = null;
  private timer = 0;
  ended: () => void = () => {};

  constructor(
    readonly track: string,
    readonly lane: LaneName,
    private readonly mode: "touch" | "latch",
    private readonly span: Span | null,
    private readonly how: HowWritten,
  ) {
    this.timer = window.setInterval(() => void this.send(), EVERY);
    // it begins at once: which lane was heard is told then
    void this.send();
  }

  add(pairs: Float64Array) {
    for (const value of pairs) this.waiting.push(value);
  }

  finish() {
    this.over = true;
    void this.send();
  }

  /** Leave what is left to the browser, which sends it when the page has gone. */
  leave() {
    if (this.begun && this.waiting.length)
      navigator.sendBeacon(api.passPieces(this.id, this.sent), new Blob([new Float64Array(this.waiting)]));
  }

  private async send(): Promise<void> {
    this.work ??= this.deliver().finally(() => {
      this.work = null;
    });
    return this.work;
  }

  private async deliver() {
    try {
      if (!this.begun) {
        const { id, lane, mode, span, how } = this;
        const pair: [number, number] | null = span && [span.start, span.end];
        await api.beginPass(this.track, { id, lane, mode, span: pair, ...how });
        this.begun = true;
      }
      do {
        const piece = new Float64Array(this.waiting.slice(0, MOST));
        if (piece.length) {
          const there = await api.takeDown(this.id, this.sent, piece);
          // what was sent before an answer was lost is there already
          this.waiting.splice(0, (there - this.sent) * 2);
          this.sent = there;
        }
      } while (this.over && this.waiting.length);
      if (!this.over) return;
      window.clearInterval(this.timer);
      await api.endPass(this.id);
      this.ended();
    } catch (error) {
      // a program that does not answer may do so again; until then all of it is here
      if (error instanceof Problem && error.status === 0) return;
      window.clearInterval(this.timer);
      complain(error);
      this.ended();
    }
  }
}
