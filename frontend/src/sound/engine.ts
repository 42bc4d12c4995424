/**
 * Playback of the track in focus: blocks are fetched ahead of the play line and handed to the worklet, however long the
 * recording is. The position is the worklet's; between its reports it is told from the audio clock.
 */
import { api, type Track } from "../api/client";
import { complain } from "../parts/messages";
import type { FromWorklet, GainPoints, ToWorklet } from "./worklet";
import workletUrl from "./worklet.ts?worker&url";

/** A line in seconds and dB. */
export type Line = [number, number][];

const BLOCK_SECONDS = 1;
const AHEAD = 8;
const BEHIND = 2;

class Engine {
  private context: AudioContext | null = null;
  private node: AudioWorkletNode | null = null;
  private track: Track | null = null;
  private points: GainPoints | null = null;
  private have = new Set<number>();
  private fetching = new Map<number, AbortController>();
  private last = { position: 0, time: 0 };
  private to = 0;
  private loop: { from: number; to: number } | null = null;
  private after = true;
  private faderDb = 0;
  /** dB that each side is turned down by, so that both are heard equally loud. */
  private match = { before: 0, after: 0 };
  private formatOf: string | null = null;
  private opening: Promise<AudioWorkletNode | null> | null = null;
  /** Counts calls to play and stop: what was overtaken while the sound was being opened is not done. */
  private turn = 0;
  private starting = false;
  playing = false;
  onStop: () => void = () => {};

  /** Position of what is heard now, in seconds of the track. */
  get seconds(): number {
    const rate = this.track?.timeline.sample_rate ?? 48000;
    if (!this.playing || !this.context) return this.last.position / rate;
    const passed = Math.max(0, this.context.currentTime - this.last.time - (this.context.outputLatency || 0));
    const now = this.last.position / rate + passed;
    if (this.loop && now > this.loop.to)
      return this.loop.from + ((now - this.loop.from) % (this.loop.to - this.loop.from));
    return Math.min(now, this.to);
  }

  /** Work on another track; the position is kept if it is the same one. */
  setTrack(track: Track): void {
    if (this.track?.id === track.id && this.track.timeline.key !== track.timeline.key) {
      // its clips lie elsewhere now: it goes on playing, with the sound that is there
      this.track = track;
      this.forget();
      this.sendFormat();
      const { loop } = this;
      if (loop) void this.play(loop.from, loop.to, true);
      else if (this.playing) void this.play(this.seconds, track.timeline.duration);
    }
    if (this.track?.id !== track.id) {
      this.stop();
      this.forget();
      this.last = { position: 0, time: 0 };
      this.points = null;
      if (this.context && this.context.sampleRate !== track.timeline.sample_rate) {
        void this.context.close();
        this.context = null;
        this.node = null;
        this.opening = null;
      }
    }
    this.track = track;
    this.sendFormat();
    this.setFader(track.fader);
  }

  /** Whether what it works on is not what is heard of a track: another one of its takes. */
  isElsewhere(track: Track | undefined): boolean {
    return this.track !== null && this.track.id === track?.id && this.track.timeline.key !== track.timeline.key;
  }

  setGain(points: GainPoints): void {
    this.points = points;
    this.send({ type: "gain", points });
  }

  /** Hear what the hand does - seconds in rising order, and dB on top of all gain - until the next compiled gain arrives. */
  hold(line: Line): void {
    const rate = this.track?.timeline.sample_rate ?? 48000;
    const points = { at: new Float64Array(line.length), db: new Float64Array(line.length) };
    line.forEach(([at, db], i) => {
      points.at[i] = at * rate;
      points.db[i] = db;
    });
    this.send({ type: "hold", points });
  }

  /** Hear the recording with its gain, or as it is. */
  setAfter(after: boolean): void {
    this.after = after;
    this.send({ type: "switch", after });
    this.sendFader();
  }

  setFader(db: number): void {
    this.faderDb = db;
    this.sendFader();
  }

  /** Hear before and after with these dB on top; nothing of it is in a render. */
  setMatch(before: number, after: number): void {
    this.match = { before, after };
    this.sendFader();
  }

  private sendFader(): void {
    this.send({ type: "fader", db: this.faderDb + (this.after ? this.match.after : this.match.before) });
  }

  /** Place the play line; goes on from there while playing. */
  seek(seconds: number): void {
    const rate = this.track?.timeline.sample_rate ?? 48000;
    this.last = { position: Math.max(0, Math.round(seconds * rate)), time: this.context?.currentTime ?? 0 };
    if (this.playing) void this.play(seconds, this.track?.timeline.duration ?? seconds);
  }

  async play(from: number, to: number, loop = false): Promise<void> {
    const track = this.track;
    if (!track) return;
    const rate = track.timeline.sample_rate;
    const turn = ++this.turn;
    this.starting = true;
    const node = await this.open().catch((error) => {
      complain(error);
      return null;
    });
    await this.context?.resume();
    if (turn !== this.turn) return;
    this.starting = false;
    // an edit brings a new object for the same track
    if (!node || this.track?.id !== track.id) return this.onStop();
    this.to = Math.min(to, track.timeline.duration);
    this.loop = loop ? { from, to: this.to } : null;
    const start = Math.min(Math.max(0, Math.round(from * rate)), track.timeline.frames);
    this.playing = true;
    this.last = { position: start, time: this.context!.currentTime };
    this.feed(start);
    this.send({ type: "play", from: start, to: Math.round(this.to * rate), loopFrom: loop ? start : null });
  }

  stop(): void {
    if (!this.playing && !this.starting) return;
    const rate = this.track?.timeline.sample_rate ?? 48000;
    this.last = { position: Math.round(this.seconds * rate), time: 0 };
    this.turn++;
    this.playing = this.starting = false;
    this.send({ type: "stop" });
    this.onStop();
  }

  private async open(): Promise<AudioWorkletNode | null> {
    this.opening ??= this.build();
    return this.opening;
  }

  private async build(): Promise<AudioWorkletNode | null> {
    const track = this.track!;
    // the context runs at the track's own rate, so its samples reach the gain as they are
    this.context = new AudioContext({ sampleRate: track.timeline.sample_rate, latencyHint: "interactive" });
    await this.context.audioWorklet.addModule(workletUrl);
    this.node = new AudioWorkletNode(this.context, "nivelus-player", { outputChannelCount: [2] });
    this.node.connect(this.context.destination);
    this.node.port.onmessage = (event: MessageEvent<FromWorklet>) => this.hear(event.data);
    this.formatOf = null;
    this.sendFormat();
    if (this.points) this.setGain(this.points);
    this.setAfter(this.after);
    this.setFader(this.faderDb);
    return this.node;
  }

  private hear(report: FromWorklet): void {
    if (!this.playing) return;
    if (!report.playing) {
      this.playing = false;
      this.last = { position: report.position, time: 0 };
      this.onStop();
      return;
    }
    this.last = { position: report.position, time: report.starving ? this.context!.currentTime : report.time };
    this.feed(report.position);
  }

  /** Have the blocks around a position, and those where a loop begins. */
  private feed(position: number): void {
    const track = this.track;
    if (!track) return;
    const size = BLOCK_SECONDS * track.timeline.sample_rate;
    const now = Math.floor(position / size);
    const count = Math.ceil(track.timeline.frames / size);
    const wanted: number[] = [];
    for (let i = now; i <= Math.min(now + AHEAD, count - 1); i++) wanted.push(i);
    if (this.loop) {
      const first = Math.floor((this.loop.from * track.timeline.sample_rate) / size);
      for (const i of [first, first + 1]) if (i < count && !wanted.includes(i)) wanted.push(i);
    }
    for (const index of wanted) {
      if (!this.have.has(index) && !this.fetching.has(index) && this.fetching.size < 4) this.fetch(track, index, size);
    }
    for (const index of this.have) {
      if ((index < now - BEHIND || index > now + AHEAD) && !wanted.includes(index)) this.have.delete(index);
    }
    this.send({ type: "keep", first: now - BEHIND, last: now + AHEAD });
  }

  private fetch(track: Track, index: number, size: number): void {
    const abort = new AbortController();
    this.fetching.set(index, abort);
    api
      .samples({ track: track.id, key: track.timeline.key, take: track.take }, index * size, size, abort.signal)
      .then((data) => {
        if (abort.signal.aborted || this.track?.timeline.key !== track.timeline.key) return;
        this.have.add(index);
        this.send({ type: "block", index, data }, [data.buffer]);
      })
      .catch((error) => {
        if (abort.signal.aborted) return;
        this.stop();
        complain(error);
      })
      .finally(() => {
        this.fetching.delete(index);
        if (this.playing) this.feed(Math.round(this.last.position));
      });
  }

  private forget(): void {
    for (const abort of this.fetching.values()) abort.abort();
    this.fetching.clear();
    this.have.clear();
  }

  private sendFormat(): void {
    const timeline = this.track?.timeline;
    if (!timeline || !this.node || this.formatOf === timeline.key) return;
    this.formatOf = timeline.key;
    this.have.clear();
    this.send({
      type: "format",
      channels: timeline.channels,
      frames: timeline.frames,
      blockFrames: BLOCK_SECONDS * timeline.sample_rate,
    });
  }

  private send(message: ToWorklet, transfer: Transferable[] = []): void {
    this.node?.port.postMessage(message, transfer);
  }
}

export const engine = new Engine();
