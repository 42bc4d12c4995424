/**
 * Riding by hand while it plays: the hand, who holds it, and what it may write. What it wrote is in ``passes``.
 *
 * Whoever holds the hand - mouse, wheel, keys, a controller, the stand-in - holds it alone until it lets go. Nothing is written
 * unless it is armed, and what is written is what the audio thread reports to have been heard.
 */
import { create } from "zustand";
import type { HowWritten, LaneName, PassDraft } from "../../api/client";
import { tell } from "../../parts/messages";
import { engine } from "../../sound/engine";
import { gainAt, heard, heardOf, onHeard } from "../heard/heard";
import { focused, selectedSpan } from "../server/focus";
import { useSession } from "../server/session";
import { LANE_NAMES, redraw, useView } from "../view/view";

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
  /** The pass that lies over the lane, and what keeping it would make of the lane. */
  chosen: string | null;
  /** What the chosen pass would write, and how. */
  draft: PassDraft | null;
  /** Whether the chosen pass is heard, or the lane without it. */
  heard: boolean;
  /** How passes are written, where that is not as it comes. */
  how: Partial<HowWritten>;
}

export const useRiding = create<RidingState>(() => ({
  mode: "listen",
  armed: false,
  pinned: false,
  holder: null,
  writing: false,
  chosen: null,
  draft: null,
  heard: true,
  how: {},
}));

/** How passes are written: what was set, and all else as it comes. */
export function howWritten(
  how: Partial<HowWritten> = useRiding.getState().how,
  asItComes = useSession.getState().terms?.passes,
): HowWritten {
  const { glide, lead, error, snap } = { glide: 0, lead: 0, error: 0, snap: false, ...asItComes, ...how };
  return { glide, lead, error, snap };
}

// --- where the hand is

export const isOffset = (lane: LaneName) => lane === "trim";

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
  return gainAt(heard()[lane], engine.seconds * rate) + held;
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
  if (focused()?.timeline.missing) return "The sound file of this track is missing. Import it again.";
  if (!layers[lane] || (lane === "trim" && focused()?.trim.off))
    return `The ${name} is switched off: what the hand does would not be heard. Switch it on first.`;
  return null;
}

/** Let the hand write, or no longer. */
export function toggleArmed() {
  const { mode, armed } = useRiding.getState();
  if (armed) return useRiding.setState({ armed: false });
  const why = obstacle();
  if (why) return tell(why);
  useRiding.setState({ armed: true, mode: mode === "listen" ? "touch" : mode });
}

let told = "";

/** Tell the audio thread which lane the hand is on, and what may become of it. */
function syncRider() {
  const track = focused();
  const { stage, lane, layers } = useView.getState();
  const known = stage === "ride" ? heardOf(track) : null;
  if (!track || !known) {
    if (told !== "") engine.ride(null);
    told = "";
    return;
  }
  const { mode, armed } = useRiding.getState();
  const { glide } = howWritten();
  // where writing is possible: in what is selected, if anything is
  const span = selectedSpan();
  const { low, high } = handLimits();
  const key = [track.id, lane, mode, armed, glide, span?.start, span?.end, low, high].join();
  if (key === told && known[lane] === toldLane) return;
  if (told && !told.startsWith(`${track.id},${lane},`)) {
    // another lane is another hand
    letGo();
    engine.ride(null);
  }
  told = key;
  toldLane = known[lane];
  engine.ride({
    track: track.id,
    lane: layers[lane] ? known[lane] : NOTHING,
    offset: isOffset(lane),
    latch: mode === "latch",
    armed: armed && mode !== "listen",
    glide,
    span,
    low,
    high,
  });
}
const NOTHING = { at: new Float64Array(0), db: new Float64Array(0) };
let toldLane: object | null = null;

/** Nothing holds the hand any more, and it is on no lane: the session is left. */
export function leaveHand() {
  letGo();
  engine.ride(null);
  told = "";
}

useSession.subscribe(syncRider);
useView.subscribe((now, old) => {
  if (now.stage !== "ride" && old.stage === "ride") {
    letGo();
    useRiding.setState({ armed: false });
  }
  if (now.layers !== old.layers && useRiding.getState().armed && obstacle()) useRiding.setState({ armed: false });
  syncRider();
});
onHeard(syncRider);
useRiding.subscribe((now, old) => {
  if (now.mode !== old.mode || now.armed !== old.armed || now.how !== old.how) syncRider();
  redraw();
});
