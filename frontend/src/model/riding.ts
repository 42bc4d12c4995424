/**
 * Riding by hand while it plays: the hand, what it may write, and the passes that it left.
 *
 * Whoever holds the hand - mouse, wheel, keys, a controller, the stand-in - holds it alone until it lets go. Nothing is written
 * unless it is armed, and what is written is what the audio thread reports to have been heard.
 */
import { create } from "zustand";
import { api, type HowWritten, type LaneName, type Pass, type PassDraft } from "../api/client";
import { complain, tell } from "../parts/messages";
import { Problem } from "../parts/problem";
import { engine, type Line, type Ridden } from "../sound/engine";
import { focused, selectedSpan } from "./focus";
import { gainAt, gainSettled, useHeard } from "./heard";
import { play } from "./listening";
import { useRide } from "./rideState";
import { edit, useSession } from "./session";
import { LANE_NAMES, redraw, type Span, useView } from "./view";

export type Mode = "listen" | "touch" | "latch";
export const MODES: Mode[] = ["listen", "touch", "latch"];
export type Holder = "mouse" | "wheel" | "keys" | "controller" | "stand-in";

interface RidingState {
  mode: Mode;
  armed: boolean;
  /** Whether it stays armed after a stop that wrote something. */
  pinned: boolean;
  holder: Holder | null;
  /** Whether something is being written now. */
  writing: boolean;
  track: string;
  passes: Pass[];
  /** The pass that lies over the lane, and what keeping it would make of the lane. */
  chosen: string | null;
  draft: PassDraft | null;
  /** Whether the chosen pass is heard, or the lane without it. */
  heard: boolean;
  how: HowWritten;
}

const HOW: HowWritten = { glide: 0.3, lead: 0, error: 0.25, snap: false };

export const useRiding = create<RidingState>(() => ({
  mode: "listen",
  armed: false,
  pinned: false,
  holder: null,
  writing: false,
  track: "",
  passes: [],
  chosen: null,
  draft: null,
  heard: true,
  how: HOW,
}));

/** What the hand has written in this round, in seconds and dB, as it is drawn while it plays; NaN dB between runs. */
export const written = { lane: "ride" as LaneName, at: [] as number[], db: [] as number[] };

// --- where the hand is

const isOffset = (lane: LaneName) => lane === "trim";

/** The values between which the hand moves, dB. */
export function handLimits(): { low: number; high: number } {
  const track = focused();
  const { lane } = useView.getState();
  const [low, high] = [Math.max(track?.range_low ?? -20, -60), track?.range_high ?? 6];
  // an offset lies around 0, whatever it lies over
  return isOffset(lane) ? { low: -Math.max(-low, high), high: Math.max(-low, high) } : { low, high };
}

let by = 0;

/** What the hand shows: what is heard of the lane in hand at the play line, dB. */
export function handValue(): number {
  if (engine.playing && !Number.isNaN(engine.hand)) return engine.hand;
  const { lane } = useView.getState();
  const held = useRiding.getState().holder ? by : 0;
  if (isOffset(lane)) return held;
  const rate = focused()?.timeline.sample_rate ?? 48000;
  return gainAt(useHeard.getState()[lane], engine.seconds * rate) + held;
}

/** Take hold of the hand where it is; false where another holds it. */
export function takeHold(holder: Holder): boolean {
  const { holder: now } = useRiding.getState();
  if (now !== null && now !== holder) return false;
  if (now === null) {
    by = 0;
    useRiding.setState({ holder });
    engine.moveHand(true, 0);
    redraw();
  }
  return true;
}

/** Move the hand by so many dB since it was taken hold of. */
export function moveTo(holder: Holder, db: number) {
  if (useRiding.getState().holder !== holder) return;
  by = db;
  engine.moveHand(true, db);
  redraw();
}

export function letGo(holder?: Holder) {
  const { holder: now } = useRiding.getState();
  if (now === null || (holder && now !== holder)) return;
  useRiding.setState({ holder: null });
  engine.moveHand(false, by);
  by = 0;
  redraw();
}

const FAST = 6;
const FINE = 1.2;
let keys: { timer: number; by: number } | null = null;

/** Whether Up and Down move the hand: while it plays, unless they are for what is selected. */
export function keysRide(): boolean {
  const { stage, playing, points } = useView.getState();
  if (stage !== "ride" || !playing) return false;
  return useRiding.getState().armed || (points.size === 0 && !selectedSpan());
}

/** Move the hand up or down for as long as a key is held, so many dB a second. */
export function rideByKey(direction: 1 | -1, fine: boolean) {
  if (keys || !takeHold("keys")) return;
  let last = performance.now();
  const step = () => {
    const now = performance.now();
    const { low, high } = handLimits();
    const room = handValue();
    // what is beyond the end of the way is not remembered
    const by = Math.min(Math.max(((now - last) / 1000) * direction * (fine ? FINE : FAST), low - room), high - room);
    keys!.by += by;
    last = now;
    moveTo("keys", keys!.by);
  };
  keys = { timer: window.setInterval(step, 16), by: 0 };
}

export function endKeys() {
  if (!keys) return;
  window.clearInterval(keys.timer);
  keys = null;
  letGo("keys");
}

// --- what it may write

export function setMode(mode: Mode) {
  useRiding.setState({ mode, armed: mode === "listen" ? false : useRiding.getState().armed });
}

/** Why the lane in hand cannot be written now; null where it can. */
function obstacle(): string | null {
  const { lane, layers, stage } = useView.getState();
  const name = LANE_NAMES[lane];
  if (stage !== "ride") return "The hand works in the stage Ride (4).";
  if (focused()?.timeline.missing) return "The sound file of this track is missing. Bring it in again.";
  if (!layers[lane] || (lane === "trim" && useRide.getState().ride?.off))
    return `The ${name} is switched off: what the hand does would not be heard. Switch it on first.`;
  return null;
}

/** Let the hand write, or no longer. */
export function arm(on: boolean) {
  const why = on ? obstacle() : null;
  if (why) return tell(why);
  const { mode } = useRiding.getState();
  useRiding.setState({ armed: on, mode: on && mode === "listen" ? "touch" : mode });
}

export const toggleArmed = () => arm(!useRiding.getState().armed);

/** Where writing is possible: in what is selected, if anything is. */
export const writeSpan = (): Span | null => selectedSpan();

let told = "";

/** Tell the audio thread which lane the hand is on, and what may become of it. */
function syncRider() {
  const track = focused();
  const { stage, lane, layers } = useView.getState();
  const heard = useHeard.getState();
  if (stage !== "ride" || !track || track.timeline.missing || heard.track !== track.id) {
    if (told !== "") engine.ride(null);
    told = "";
    return;
  }
  const { mode, armed, how } = useRiding.getState();
  const span = writeSpan();
  const { low, high } = handLimits();
  const key = [track.id, lane, mode, armed, how.glide, span?.start, span?.end, low, high].join();
  if (key === told && heard[lane] === toldLane) return;
  if (told && !told.startsWith(`${track.id},${lane},`)) {
    // another lane is another hand
    letGo();
    engine.ride(null);
  }
  told = key;
  toldLane = heard[lane];
  engine.ride({
    track: track.id,
    lane: layers[lane] ? heard[lane] : NOTHING,
    offset: isOffset(lane),
    latch: mode === "latch",
    armed: armed && mode !== "listen",
    glide: how.glide,
    span,
    low,
    high,
  });
}
const NOTHING = { at: new Float64Array(0), db: new Float64Array(0) };
let toldLane: object | null = null;

// --- taking down

/** A pass that is being taken down: what has not been sent yet goes in pieces, and again until it has arrived. */
class Taking {
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

const EVERY = 1000;
const MOST = 32_768;
const newId = () =>
  crypto.getRandomValues(new Uint8Array(12)).reduce((id, byte) => id + byte.toString(36).padStart(2, "0"), "");

let taking: Taking | null = null;
const underWay = new Set<Taking>();
let wrote = false;

function hear({ track, pairs, over }: Ridden) {
  const { mode, how } = useRiding.getState();
  if (pairs.length) {
    const { lane } = useView.getState();
    if (!taking) {
      taking = new Taking(track, lane, mode === "latch" ? "latch" : "touch", writeSpan(), how);
      underWay.add(taking);
      written.lane = lane;
      written.at = [];
      written.db = [];
      wrote = true;
      useRiding.setState({ writing: true, chosen: null, draft: null });
    }
    taking.add(pairs);
    for (let i = 0; i < pairs.length; i += 2) {
      const at = pairs[i]!;
      written.at.push(Number.isNaN(at) ? (written.at.at(-1) ?? 0) : at);
      written.db.push(pairs[i + 1]!);
    }
    redraw();
  }
  if (!over || !taking) return;
  const done = taking;
  taking = null;
  done.ended = () => {
    underWay.delete(done);
    void refreshPasses(done.id);
  };
  done.finish();
  useRiding.setState({ writing: false });
  if (!useView.getState().playing) disarm();
}

/** After a stop that wrote something the hand only listens again, unless it is pinned. */
function disarm() {
  if (!wrote) return;
  wrote = false;
  if (!useRiding.getState().pinned) useRiding.setState({ armed: false });
}

// --- passes

let asked = 0;

/** Have the passes of the track in focus; the one that was just made lies over the lane. */
async function refreshPasses(made?: string) {
  const track = focused();
  if (!track || useView.getState().stage !== "ride") return;
  const now = ++asked;
  try {
    const passes = await api.passes(track.id);
    if (now !== asked) return;
    const chosen = made && !taking ? made : useRiding.getState().chosen;
    const there = passes.find((pass) => pass.id === chosen && canBeWritten(pass));
    useRiding.setState({ track: track.id, passes });
    if (there) await choosePass(there.id);
    else useRiding.setState({ chosen: null, draft: null });
    if (!taking) written.at = written.db = [];
    redraw();
  } catch (error) {
    if (now === asked && !(error instanceof Problem && error.status === 404)) complain(error);
  }
}

/** What is in the lane as an offset cannot be written into it once more. */
const canBeWritten = (pass: Pass) => pass.state === "waiting" || !isOffset(pass.lane as LaneName);

/** Let a pass lie over the lane as a draft; null: none. */
export async function choosePass(id: string | null) {
  const pass = useRiding.getState().passes.find((one) => one.id === id);
  if (!pass || !canBeWritten(pass)) return useRiding.setState({ chosen: null, draft: null });
  const { glide, lead, error, snap } = pass;
  const how = useRiding.getState().chosen === id ? useRiding.getState().how : { glide, lead, error, snap };
  useRiding.setState({ chosen: pass.id, how });
  if (useView.getState().lane !== pass.lane) useView.setState({ lane: pass.lane as LaneName, points: new Set() });
  await draftPass();
}

async function draftPass() {
  const { chosen, how } = useRiding.getState();
  if (!chosen) return;
  try {
    const draft = await api.passDraft(chosen, how);
    const now = useRiding.getState();
    if (now.chosen === chosen && now.how === how) useRiding.setState({ draft });
  } catch (error) {
    complain(error);
  }
}

/** Another way of writing the chosen pass, and those that follow. */
export function setHow(change: Partial<HowWritten>) {
  useRiding.setState((s) => ({ how: { ...s.how, ...change } }));
  void draftPass();
}

export const otherHeard = () => useRiding.setState((s) => ({ heard: !s.heard }));
export const setHeardPass = (heard: boolean) => useRiding.setState({ heard });

/** The chosen pass is what the lane is, or its means are clip gain, from now on. */
export async function keepPass(asClipGain = false) {
  const { chosen, how } = useRiding.getState();
  if (!chosen) return tell("Choose a pass first: click it beside the hand.");
  if (await edit((revision) => api.keepPass(chosen, revision, how, asClipGain))) {
    tell(useSession.getState().header?.label ?? "Kept");
    await gainSettled();
    useRiding.setState({ chosen: null, draft: null });
  }
}

export async function dropPass(id = useRiding.getState().chosen) {
  if (!id) return tell("Choose a pass first: click it beside the hand.");
  await edit((revision) => api.dropPass(id, revision));
}

/** Play where a pass was made. */
export function playPass(pass: Pass) {
  play(Math.max(0, pass.start - 1), pass.end + 1);
}

const changeOf = ({ at, by }: PassDraft): Line => at.map((seconds, i) => [seconds, by[i]!]);

/** The difference that the chosen pass would make is heard, unless the hand is about to write over the lane without it. */
function hearChosen() {
  const { draft, heard, armed } = useRiding.getState();
  const { before, layers, lane } = useView.getState();
  const line = draft && heard && !armed && !before && layers[lane] ? changeOf(draft) : [];
  if (line.length === 0 && !hears) return;
  hears = line.length > 0;
  engine.hold(line);
}
let hears = false;

export function startRiding() {
  engine.onRidden = hear;
  const leave = () => {
    for (const pass of underWay) pass.leave();
    taking?.leave();
  };
  window.addEventListener("pagehide", leave);
  window.addEventListener("blur", endKeys);
  return () => {
    letGo();
    engine.ride(null);
    told = "";
    window.removeEventListener("pagehide", leave);
    window.removeEventListener("blur", endKeys);
  };
}

let loaded = "";
function refresh() {
  const { header } = useSession.getState();
  const { focus, stage } = useView.getState();
  const key = stage === "ride" && header ? `${focus}@${header.revision}` : "";
  if (key && key !== loaded) {
    const { track } = useRiding.getState();
    if (track !== focused()?.id) useRiding.setState({ passes: [], chosen: null, draft: null });
    void refreshPasses();
  }
  loaded = key;
}

useSession.subscribe(() => {
  refresh();
  syncRider();
});
useView.subscribe((now, old) => {
  if (now.focus !== old.focus || now.stage !== old.stage) refresh();
  if (old.playing && !now.playing) disarm();
  if (now.stage !== "ride" && old.stage === "ride") {
    letGo();
    useRiding.setState({ armed: false, chosen: null, draft: null });
  }
  if (now.layers !== old.layers && useRiding.getState().armed && obstacle()) useRiding.setState({ armed: false });
  syncRider();
  hearChosen();
});
useHeard.subscribe(() => {
  syncRider();
  // the compiled gain has come anew, and without it
  if (hears) hears = false;
  hearChosen();
});
useRiding.subscribe((now, old) => {
  if (now.mode !== old.mode || now.armed !== old.armed || now.how !== old.how) syncRider();
  if (now.draft !== old.draft || now.heard !== old.heard || now.armed !== old.armed) hearChosen();
  redraw();
});
