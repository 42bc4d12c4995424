/**
 * Feeding the audio thread: blocks are fetched ahead of the play line, the ones that are needed first first, however long the
 * recordings are.
 */
import { api } from "../api/client";
import { isOvertaken } from "../parts/problem";
import type { Source } from "./source";
import { LOAD_STEP } from "./voice";
import type { ToWorklet } from "./worklet";

const AHEAD = 8;
/** Blocks that are there before playing begins. */
const AT_HAND = 2;
const BEHIND = 2;
const AT_ONCE = 6;

/** Where the play line is, in samples, and what is played from there on. */
interface Playing {
  position: number;
  playing: boolean;
  /** Seconds from where to where it goes round. */
  loop: { from: number } | null;
}

/** Whom the blocks are for. */
interface Fed {
  send: (message: ToWorklet, transfer?: Transferable[]) => void;
  /** Called when a block has come or was called off: there is room for another. */
  again: () => void;
  /** Called when what was asked for is of a state that no longer exists. */
  stale: () => Promise<unknown>;
  failed: (error: unknown) => void;
}

export class Feeder {
  /** Samples of a block: a second. */
  rate = 48000;
  private readonly fetching = new Map<string, AbortController>();

  constructor(
    private readonly sources: ReadonlyMap<string, Source>,
    private readonly fed: Fed,
  ) {}

  /** Have the blocks around a position, and those where a loop begins: what is needed first is fetched first. */
  feed({ position, playing, loop }: Playing): void {
    const now = Math.floor(position / this.rate);
    const indices = Array.from({ length: playing ? AHEAD + 1 : AT_HAND }, (_, i) => now + i);
    if (loop) {
      const first = Math.floor(loop.from);
      // at the end of a loop its beginning is next
      for (const i of [first, first + 1]) if (!indices.includes(i)) indices.splice(2, 0, i);
    }
    const heard = [...this.sources.values()].filter((source) => source.set.heard > 0);
    for (const index of indices) {
      for (const source of heard) {
        if (index * this.rate >= Math.ceil(source.track.timeline.duration * this.rate)) continue;
        this.want(source, index);
      }
    }
    for (const source of this.sources.values()) {
      for (const index of source.have) {
        if (index >= now - BEHIND && indices.includes(Math.max(index, now))) continue;
        source.have.delete(index);
        source.loads.delete(index);
      }
    }
    this.fed.send({ type: "keep", first: now - BEHIND, last: now + AHEAD });
  }

  private want(source: Source, index: number): void {
    const { id, timeline, take } = source.track;
    const at = { track: id, key: timeline.key, take };
    if (!source.have.has(index)) {
      this.fetch(source, `${id} ${index}`, async (signal) => {
        const data = await api.samples(at, index * this.rate, this.rate, this.rate, signal);
        return () => {
          source.have.add(index);
          this.fed.send({ type: "block", track: id, index, data }, [data.buffer]);
        };
      });
    }
    if (source.set.load > 0 && source.loadKey && !source.loads.has(index)) {
      this.fetch(source, `${id} load ${index}`, async (signal) => {
        const start = index * this.rate;
        const pairs = await api.reduction(at, start, this.rate, this.rate, signal);
        const first = Math.floor(start / LOAD_STEP);
        return () => {
          source.loads.add(index);
          this.fed.send({ type: "load", track: id, index, load: { first, pairs } }, [pairs.buffer]);
        };
      });
    }
  }

  private fetch(source: Source, name: string, work: (signal: AbortSignal) => Promise<() => void>): void {
    if (this.fetching.has(name) || this.fetching.size >= AT_ONCE) return;
    const abort = new AbortController();
    const key = source.key;
    let failed = false;
    this.fetching.set(name, abort);
    work(abort.signal)
      .then((hand) => {
        if (!abort.signal.aborted && this.sources.get(source.track.id) === source && source.key === key) hand();
      })
      .catch(async (error) => {
        if (abort.signal.aborted) return;
        if (isOvertaken(error)) {
          // what the edit has made of the track is asked for then
          await this.fed.stale();
          if (abort.signal.aborted) return;
        }
        failed = true;
        this.fed.failed(error);
      })
      .finally(() => {
        if (this.fetching.get(name) === abort) this.fetching.delete(name);
        if (!failed) this.fed.again();
      });
  }

  /** Call off what is on its way, by the names of the blocks: the track's, and which of it. */
  abort(which: (name: string) => boolean): void {
    for (const [name, abort] of this.fetching) {
      if (!which(name)) continue;
      abort.abort();
      this.fetching.delete(name);
    }
  }
}
