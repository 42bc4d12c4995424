/**
 * Playback of a session: all its tracks on one clock. The position is the worklet's; between its reports it is told from the
 * audio clock.
 */
import type { Track } from "../api/client";
import { complain } from "../parts/messages";
import { Feeder } from "./feeder";
import type { Line } from "./lines";
import { Source, type Switch } from "./source";
import type { FromWorklet, GainPoints, RideReport, RideSetting, ToWorklet } from "./worklet";
import workletUrl from "./worklet.ts?worker&url";

/** Milliseconds of rest after which the first blocks are fetched. */
const RESTED = 500;

/** How a lane is ridden, in seconds; see ``RideSetting``. */
export interface Riding extends Omit<RideSetting, "lane" | "glide" | "from" | "to"> {
  track: string;
  /** The lane as it is compiled, in samples of its track. */
  lane: GainPoints;
  glide: number;
  span: { start: number; end: number } | null;
}
/** What was heard of the hand: pairs of seconds and dB; runs end with a pair of NaN. */
export interface Ridden {
  track: string;
  pairs: Float64Array;
  /** Whether playing has stopped, or the loop has come round. */
  over: boolean;
}

/** A gain of one rate in samples of another. */
const scaled = (points: GainPoints, scale: number): GainPoints =>
  scale === 1 ? points : { at: points.at.map((at) => at * scale), db: points.db };

class Engine {
  private context: AudioContext | null = null;
  private node: AudioWorkletNode | null = null;
  private readonly sources = new Map<string, Source>();
  private readonly feeder = new Feeder(this.sources, {
    send: (message, transfer) => this.send(message, transfer),
    again: () => this.feed(),
    stale: () => this.onStale(),
    failed: (error) => {
      if (!this.playing) return;
      this.stop();
      complain(error);
    },
  });
  private rate = 48000;
  private rested = 0;
  private last = { position: 0, time: 0 };
  private to = 0;
  private loop: { from: number; to: number } | null = null;
  private opening: Promise<AudioWorkletNode | null> | null = null;
  /** Counts calls to play and stop: what was overtaken while the sound was being opened is not done. */
  private turn = 0;
  private starting = false;
  playing = false;
  /** Whether all wait for a track whose samples have not come, and whether the limiter had to work a moment ago. */
  waiting = false;
  limited = Number.NEGATIVE_INFINITY;
  onStop: () => void = () => {};
  /** Called when what was asked for is of a state that no longer exists. */
  onStale: () => Promise<unknown> = async () => {};
  /** Called with what was heard of the hand. */
  onRidden: (ridden: Ridden) => void = () => {};
  /** What is heard of the lane that the hand is on, dB; NaN where it is on none, or nothing plays. */
  hand = Number.NaN;
  private riding: Riding | null = null;
  private grip = { held: false, by: 0 };

  /** Position of what is heard now, in seconds of the session. */
  get seconds(): number {
    const at = this.last.position / this.rate;
    if (!this.playing || !this.context) return at;
    const passed = Math.max(0, this.context.currentTime - this.last.time - (this.context.outputLatency || 0));
    const now = at + passed;
    if (this.loop && now > this.loop.to)
      return this.loop.from + ((now - this.loop.from) % (this.loop.to - this.loop.from));
    return Math.min(now, this.to);
  }

  /** How long all of it lasts, seconds. */
  get duration(): number {
    return Math.max(0, ...[...this.sources.values()].map(({ track }) => track.timeline.duration));
  }

  /** Play these tracks at this rate, from now on; those whose sound is missing are silent. */
  setTracks(tracks: Track[], rate: number): void {
    if (rate !== this.rate) {
      const at = this.seconds;
      this.stop();
      void this.context?.close();
      this.context = this.node = this.opening = null;
      this.feeder.abort(() => true);
      this.rate = this.feeder.rate = rate;
      this.last = { position: Math.round(at * rate), time: 0 };
      this.sources.clear();
    }
    const wanted = new Map(tracks.filter((track) => !track.timeline.missing).map((track) => [track.id, track]));
    for (const id of [...this.sources.keys()]) {
      if (wanted.has(id)) continue;
      this.sources.delete(id);
      this.feeder.abort((name) => name.startsWith(`${id} `));
      this.send({ type: "drop", track: id });
    }
    for (const track of wanted.values()) this.setTrack(track);
    this.rest();
  }

  /** Once nothing has changed for a moment, have what is needed first when playing begins: a key is heard at once. */
  private rest(): void {
    window.clearTimeout(this.rested);
    if (this.playing || this.sources.size === 0) return;
    this.rested = window.setTimeout(() => {
      if (this.playing) return;
      // a page that nobody has touched may not make sound yet
      if (!navigator.userActivation?.hasBeenActive) {
        for (const touched of ["pointerup", "keydown"]) window.addEventListener(touched, this.touched, { once: true });
        return;
      }
      void this.open()
        .then(() => this.feed())
        .catch(() => {});
    }, RESTED);
  }

  private touched = () => this.rest();

  /** The session is left. */
  leave(): void {
    this.stop();
    this.setTracks([], this.rate);
  }

  /** Play a track as it is now: its sound may be another one, or lie elsewhere. */
  setTrack(track: Track): void {
    const known = this.sources.get(track.id);
    const source = known ?? new Source(track);
    const was = known?.key;
    source.track = track;
    if (!known) this.sources.set(track.id, source);
    if (was === source.key) return;
    this.introduce(source);
    if (this.playing) this.feed();
  }

  /**
   * The compiled gain of a track, in samples of it, and what lies over it from then on: both change at once, so that nothing is
   * ever heard twice or not at all.
   */
  setGain(track: Track, points: GainPoints, held: Line): void {
    const source = this.sources.get(track.id);
    if (!source) return;
    source.points = scaled(points, this.rate / track.timeline.sample_rate);
    source.held = this.held(held);
    this.send({ type: "gain", track: track.id, points: source.points, held: source.held });
  }

  /** Hear a line over all gain of a track: seconds in rising order, and dB. */
  hold(track: string, line: Line): void {
    const source = this.sources.get(track);
    if (!source) return;
    source.held = this.held(line);
    this.send({ type: "hold", track, points: source.held });
  }

  private held(line: Line): GainPoints {
    return { at: Float64Array.from(line, ([at]) => at * this.rate), db: Float64Array.from(line, ([, db]) => db) };
  }

  /** Let the hand be on a lane, or on none. */
  ride(riding: Riding | null): void {
    const was = this.riding;
    this.riding = riding;
    if (!riding) this.grip = { held: false, by: 0 };
    if (riding || was) this.sendRider();
  }

  /** The hand takes hold, has moved by so many dB since then, or lets go. */
  moveHand(held: boolean, by: number): void {
    this.grip = { held, by };
    this.send({ type: "hand", held, by, echo: 0 });
  }

  private sendRider(): void {
    const { riding } = this;
    if (!riding) {
      this.hand = Number.NaN;
      this.send({ type: "rider", track: "", setting: null });
      return;
    }
    const track = this.sources.get(riding.track)?.track;
    const { lane, glide, span, track: id, ...same } = riding;
    const setting: RideSetting = {
      ...same,
      lane: scaled(lane, this.rate / (track?.timeline.sample_rate ?? this.rate)),
      glide: glide * this.rate,
      from: (span?.start ?? -1) * this.rate,
      to: span ? span.end * this.rate : Number.MAX_VALUE,
    };
    this.send({ type: "rider", track: id, setting });
  }

  /** How a track is heard: before or after its gain, its fader (dB), whether at all, and through the compressor. */
  set(track: string, values: Partial<Record<Switch, number>>): void {
    const source = this.sources.get(track);
    if (!source) return;
    for (const [what, value] of Object.entries(values) as [Switch, number][]) {
      if (source.set[what] === value) continue;
      source.set[what] = value;
      this.send({ type: "set", track, what, value });
    }
    if (this.playing) this.feed();
  }

  /** What the compressor does to a track is another now. */
  setLoad(track: string, key: string): void {
    const source = this.sources.get(track);
    if (!source || source.loadKey === key) return;
    source.loadKey = key;
    this.feeder.abort((name) => name.startsWith(`${track} load`));
    // what is there is heard until the new one has come
    source.loads.clear();
    if (this.playing) this.feed();
  }

  /** Place the play line; goes on from there while playing. */
  seek(seconds: number): void {
    this.last = { position: Math.max(0, Math.round(seconds * this.rate)), time: this.context?.currentTime ?? 0 };
    if (this.playing) void this.play(seconds, this.duration);
    else this.rest();
  }

  async play(from: number, to: number, loop = false): Promise<void> {
    if (this.sources.size === 0) return this.onStop();
    const turn = ++this.turn;
    this.starting = true;
    const node = await this.open().catch((error) => {
      complain(error);
      return null;
    });
    await this.context?.resume();
    if (turn !== this.turn) return;
    this.starting = false;
    if (!node) return this.onStop();
    this.to = Math.min(to, this.duration);
    this.loop = loop ? { from, to: this.to } : null;
    const start = Math.round(Math.min(Math.max(0, from), this.duration) * this.rate);
    this.playing = true;
    this.last = { position: start, time: this.context!.currentTime };
    this.feed(start);
    this.send({ type: "play", from: start, to: Math.round(this.to * this.rate), loopFrom: loop ? start : null });
  }

  stop(): void {
    if (!this.playing && !this.starting) return;
    this.last = { position: this.position(), time: 0 };
    this.turn++;
    this.playing = this.starting = this.waiting = false;
    this.send({ type: "stop" });
    this.rest();
    this.onStop();
  }

  private position(): number {
    return Math.round(this.seconds * this.rate);
  }

  private async open(): Promise<AudioWorkletNode | null> {
    this.opening ??= this.build();
    return this.opening;
  }

  private async build(): Promise<AudioWorkletNode | null> {
    // one rate for the whole session: that of its first voice, whose samples reach the gain as they are
    const context = new AudioContext({ sampleRate: this.rate, latencyHint: "interactive" });
    this.context = context;
    await context.audioWorklet.addModule(workletUrl);
    if (this.context !== context) return null;
    this.node = new AudioWorkletNode(context, "nivelus-player", { outputChannelCount: [2] });
    this.node.connect(context.destination);
    this.node.port.onmessage = (event: MessageEvent<FromWorklet | RideReport>) => {
      if (event.data.type === "ride") this.hearRide(event.data);
      else this.hear(event.data);
    };
    for (const source of this.sources.values()) this.introduce(source);
    if (this.riding) {
      this.sendRider();
      this.send({ type: "hand", ...this.grip, echo: 0 });
    }
    return this.node;
  }

  /** Tell the audio thread of a track; what it had of it is gone. */
  private introduce(source: Source): void {
    const { id, timeline } = source.track;
    this.feeder.abort((name) => name.startsWith(`${id} `));
    source.have.clear();
    source.loads.clear();
    const frames = Math.ceil((timeline.frames * this.rate) / timeline.sample_rate);
    this.send({ type: "track", track: id, channels: timeline.channels, frames, blockFrames: this.rate });
    for (const [what, value] of Object.entries(source.set) as [Switch, number][])
      this.send({ type: "set", track: id, what, value });
    if (source.points) this.send({ type: "gain", track: id, points: source.points, held: source.held });
  }

  private hearRide({ track, pairs, count, over }: RideReport): void {
    const own = pairs.slice(0, 2 * count);
    for (let i = 0; i < own.length; i += 2) own[i]! /= this.rate;
    this.onRidden({ track, pairs: own, over });
  }

  private hear(report: FromWorklet): void {
    if (report.limited) this.limited = performance.now();
    this.hand = report.playing ? report.hand : Number.NaN;
    if (!this.playing) return;
    this.waiting = report.starving;
    if (!report.playing) {
      this.playing = false;
      this.last = { position: report.position, time: 0 };
      this.onStop();
      return;
    }
    this.last = { position: report.position, time: report.starving ? this.context!.currentTime : report.time };
    this.feed(report.position);
  }

  private feed(position = this.position()): void {
    this.feeder.feed({ position, playing: this.playing, loop: this.loop });
  }

  private send(message: ToWorklet, transfer: Transferable[] = []): void {
    this.node?.port.postMessage(message, transfer);
  }
}

export const engine = new Engine();
