/**
 * Playback on the audio thread: all tracks on one clock, summed, through the monitor limiter.
 *
 * The path of each is that of the product: recording -> pre-fader gain -> compressor -> fader. Gain arrives as points of
 * samples and dB, linear in dB between them; it is only applied here. What the hand is doing is a line
 * of its own, added until the compiled gain that has it arrives. Nothing is made in ``process``. Where a track that is heard
 * has no samples yet, all wait for it.
 */
import { Limiter } from "./limiter";
import { type RideReport, Rider, type RideSetting } from "./rider";
import { type Reduction, Voice } from "./voice";
import type { GainPoints } from "./walker";

declare const sampleRate: number;
declare const currentTime: number;
declare function registerProcessor(name: string, processor: unknown): void;
declare class AudioWorkletProcessor {
  readonly port: MessagePort;
}

export type { GainPoints, Reduction, RideReport, RideSetting };

interface Play {
  type: "play";
  from: number;
  to: number;
  loopFrom: number | null;
}
export type ToWorklet =
  | { type: "track"; track: string; channels: number; frames: number; blockFrames: number }
  | { type: "drop"; track: string }
  | { type: "block"; track: string; index: number; data: Float32Array }
  | { type: "load"; track: string; index: number; load: Reduction }
  | { type: "keep"; first: number; last: number }
  /** The compiled gain, and what lies over it from then on. */
  | { type: "gain"; track: string; points: GainPoints; held: GainPoints }
  | { type: "hold"; track: string; points: GainPoints }
  | { type: "rider"; track: string; setting: RideSetting | null }
  /** With an ``echo`` it is told at once when it is in what was made: how quick the hand is is measured with it. */
  | { type: "hand"; held: boolean; by: number; echo: number }
  | { type: "set"; track: string; what: "after" | "fader" | "heard" | "load" | "behind"; value: number }
  | Play
  | { type: "stop" };
export interface FromWorklet {
  type: "at";
  position: number;
  time: number;
  playing: boolean;
  starving: boolean;
  /** Whether the limiter had to work since the last report. */
  limited: boolean;
  /** What is heard of the lane that the hand is on, dB. */
  hand: number;
  /** The number of the last move of the hand that is in what was made, where it was asked for. */
  echo: number;
}

const DECLICK = 0.005;
const REPORT_EVERY = 6;
const QUANTUM = 128;

class Player extends AudioWorkletProcessor {
  private voices = new Map<string, Voice>();
  /** The same, to walk without making anything. */
  private all: Voice[] = [];
  private blockFrames = 48000;
  private position = 0;
  private end = 0;
  private loopFrom: number | null = null;
  private playing = false;
  private starving = false;
  private fade = 0;
  private stopping = false;
  private next: Play | null = null;
  private limiter: Limiter | null = null;
  private readonly envelope = new Float32Array(QUANTUM);
  private report = 0;
  private readonly said: FromWorklet = {
    type: "at",
    position: 0,
    time: 0,
    playing: false,
    starving: false,
    limited: false,
    hand: Number.NaN,
    echo: 0,
  };
  private rider: Rider | null = null;
  private ridden = "";
  private echo = 0;

  constructor() {
    super();
    this.port.onmessage = (event: MessageEvent<ToWorklet>) => this.hear(event.data);
  }

  private hear(message: ToWorklet) {
    if (message.type === "play") {
      // what sounds fades out before it jumps
      if (this.playing && this.fade > 0 && !this.starving) {
        this.next = message;
        this.stopping = true;
      } else this.begin(message);
    } else if (message.type === "stop") {
      this.next = null;
      if (this.playing && !this.starving) this.stopping = true;
      else this.halt();
    } else if (message.type === "keep") {
      const loop = this.loopFrom === null ? -2 : Math.floor(this.loopFrom / this.blockFrames);
      for (const voice of this.all) voice.keep(message.first, message.last, loop);
    } else if (message.type === "track") {
      this.blockFrames = message.blockFrames;
      this.voices.set(message.track, new Voice(message.channels, message.frames, message.blockFrames));
      this.all = [...this.voices.values()];
      this.seat();
    } else if (message.type === "rider") this.ride(message.track, message.setting);
    else if (message.type === "hand") {
      this.rider?.hand(message.held, message.by);
      this.echo = message.echo;
    } else if (message.type === "drop") {
      this.voices.delete(message.track);
      this.all = [...this.voices.values()];
    } else {
      const voice = this.voices.get(message.track);
      if (voice) this.change(voice, message);
    }
  }

  private change(voice: Voice, message: Extract<ToWorklet, { track: string }>) {
    if (message.type === "block") voice.setBlock(message.index, message.data);
    else if (message.type === "load") voice.setLoad(message.index, message.load);
    else if (message.type === "gain") voice.setGain(message.points, message.held, this.playing);
    else if (message.type === "hold") voice.setHold(message.points, this.playing);
    else if (message.type === "set") voice.set(message.what, message.value, this.playing);
  }

  /** Let the hand be on a lane of a track, or on none. */
  private ride(track: string, setting: RideSetting | null) {
    if (this.rider && setting && this.ridden === track) return this.rider.set(setting);
    this.endRound();
    this.rider = setting && new Rider(track, setting, sampleRate);
    this.ridden = track;
    this.seat();
  }

  private seat() {
    for (const [track, voice] of this.voices) voice.rider = track === this.ridden ? this.rider : null;
  }

  /** A round is over: what was held in it is told, and what is held now is another pass. */
  private endRound() {
    const { rider } = this;
    if (!rider) return;
    rider.endRound();
    rider.report.over = true;
    this.tellRide();
    rider.report.over = false;
  }

  private tellRide() {
    const { rider } = this;
    if (!rider) return;
    this.port.postMessage(rider.report);
    rider.report.count = 0;
  }

  private begin(message: Play) {
    this.endRound();
    this.position = message.from;
    this.end = message.to;
    this.loopFrom = message.loopFrom;
    this.playing = true;
    this.stopping = false;
    this.next = null;
    this.fade = 0;
  }

  private halt() {
    this.playing = false;
    this.stopping = false;
    this.fade = 0;
    if (this.next) this.begin(this.next);
    else this.endRound();
    this.tell();
  }

  private tell() {
    const { said } = this;
    said.position = this.position;
    said.time = currentTime;
    said.playing = this.playing;
    said.starving = this.starving;
    said.limited = this.limiter?.worked ?? false;
    said.hand = this.rider ? this.rider.heard(this.position) : Number.NaN;
    said.echo = this.echo;
    this.echo = 0;
    if (this.limiter) this.limiter.worked = false;
    this.port.postMessage(said);
  }

  process(_: Float32Array[][], outputs: Float32Array[][]): boolean {
    const out = outputs[0]!;
    this.limiter ??= new Limiter(out.length, sampleRate);
    const length = out[0]!.length;
    for (let c = 0; c < out.length; c++) out[c]!.fill(0);
    let done = 0;
    while (done < length && this.playing) {
      const count = this.some(out, done, length - done);
      if (count === 0 && this.starving) break;
      done += count;
    }
    this.limiter.run(out, length);
    // what the hand did is told with the position, or at once where that was asked for
    const now = ++this.report % REPORT_EVERY === 0;
    if (now && this.rider && this.rider.report.count > 0) this.tellRide();
    if (this.playing && (now || this.echo > 0)) this.tell();
    return true;
  }

  /** Play some samples, as far as nothing begins or ends in them; how many they were. */
  private some(out: Float32Array[], at: number, most: number): number {
    if (this.position >= this.end) {
      if (this.loopFrom === null) {
        this.halt();
        return 0;
      }
      this.endRound();
      this.position = this.loopFrom;
      this.fade = 0;
    }
    this.starving = false;
    for (let v = 0; v < this.all.length; v++) if (this.all[v]!.starves(this.position)) this.starving = true;
    if (this.starving) {
      // it fades in again where it had to wait
      this.fade = 0;
      if (this.stopping) this.halt();
      return 0;
    }
    const step = 1 / (DECLICK * sampleRate);
    const toBlock = this.blockFrames - (this.position % this.blockFrames);
    let count = Math.min(most, toBlock, Math.ceil(this.end - this.position), QUANTUM - at);
    let ended = false;
    for (let i = 0; i < count; i++) {
      // starting, stopping and jumping back in a loop fade within the de-click time as well
      this.fade = this.stopping ? Math.max(0, this.fade - step) : Math.min(1, this.fade + step);
      if (this.stopping && this.fade === 0) {
        count = i;
        ended = true;
        break;
      }
      this.envelope[at + i] = Math.min(this.fade, (this.end - this.position - i) * step);
    }
    if (this.rider?.full) this.tellRide();
    for (let v = 0; v < this.all.length; v++) this.all[v]!.add(out, this.envelope, at, count, this.position, step);
    this.position += count;
    if (ended) this.halt();
    return count;
  }
}

registerProcessor("nivelus-player", Player);
