/** What moves the hand from outside of the page: MIDI controllers, and the stand-in that sends the same bytes. */
import { create } from "zustand";
import { api } from "../../api/client";
import { tell } from "../../parts/messages";
import { AS_IT_COMES, type Binding, Control, type Grip, type Heard, read } from "../../sound/control";
import { hasMidi, type MidiDoor, openMidi } from "../../sound/midi";
import { focused } from "../server/focus";
import { LANE_NAMES, redraw, useView } from "../view/view";
import { type Holder, handLimits, handValue, letGo, moveTo, takeHold, useRiding } from "./riding";

interface ControllersState {
  midi: "off" | "asking" | "on" | "refused";
  /** The devices that are there, by name. */
  devices: string[];
  learning: boolean;
  binding: Binding;
  standIn: boolean;
  /** Where a controller stands that has yet to pass the value that is heard, dB. */
  waitsAt: number | null;
}

const KEPT = "nivelus.hand";

export const useControllers = create<ControllersState>(() => ({
  midi: "off",
  devices: [],
  learning: false,
  binding: remembered(),
  standIn: false,
  waitsAt: null,
}));

/** What was learnt before, if it is whole. */
function remembered(): Binding {
  try {
    const kept = localStorage.getItem(KEPT);
    if (!kept) return AS_IT_COMES;
    const { device, channel, control, touch } = JSON.parse(kept) as Binding;
    const isByte = (value: unknown, most: number) =>
      Number.isInteger(value) && (value as number) >= 0 && (value as number) <= most;
    if (
      (device === null || typeof device === "string") &&
      (channel === null || isByte(channel, 15)) &&
      (control === "bend" || isByte(control, 127)) &&
      (touch === null || isByte(touch, 127))
    )
      return { device, channel, control, touch };
  } catch {
    // it cannot be read
  }
  return AS_IT_COMES;
}

const controls = new Map<string, Control>();

const gripOf = (holder: Holder): Grip => ({
  hold: () => void takeHold(holder),
  move: (by) => moveTo(holder, by),
  letGo: () => letGo(holder),
  now: () => ({ db: handValue(), ...handLimits() }),
});

function controlOf(device: string, holder: Holder): Control {
  let control = controls.get(device);
  if (!control) {
    const made = new Control(gripOf(holder), () => {
      useControllers.setState({ waitsAt: made.waitsAt });
      redraw();
    });
    controls.set(device, made);
    control = made;
  }
  return control;
}

// --- MIDI

let door: MidiDoor | null = null;
const TOUCH_BEFORE = 400;
let lastNote: { device: string; number: number; at: number } | null = null;

export async function switchMidi(on: boolean): Promise<void> {
  if (!on) {
    door?.close();
    door = null;
    for (const [id, control] of controls) if (id !== STAND_IN) control.gone();
    useControllers.setState({ midi: "off", devices: [], learning: false });
    return;
  }
  if (!hasMidi()) return refuse("This browser does not let pages use MIDI controllers here");
  useControllers.setState({ midi: "asking" });
  try {
    door = await openMidi({
      bytes: (device, bytes) => {
        for (const heard of read(bytes)) hearMidi(device, heard);
      },
      changed: (devices, gone) => {
        if (gone) controls.get(gone)?.gone();
        useControllers.setState({ devices: [...devices.values()] });
      },
    });
    useControllers.setState({ midi: "on", devices: [...door.devices.values()] });
    if (door.devices.size === 0) tell("No MIDI controller is connected yet. It works as soon as it is plugged in.");
  } catch {
    refuse("The browser has not been allowed to use MIDI controllers");
  }
}

function refuse(why: string) {
  useControllers.setState({ midi: "refused", learning: false });
  tell(`${why}. The stand-in can do the same: open it from the menu of the hand.`);
}

function hearMidi(device: string, heard: Heard) {
  const { learning } = useControllers.getState();
  const name = door?.devices.get(device) ?? null;
  if (heard.kind === "note") {
    if (heard.on) lastNote = { device, number: heard.number, at: performance.now() };
  } else if (learning) {
    const note = lastNote?.device === device && performance.now() - lastNote.at < TOUCH_BEFORE ? lastNote : null;
    const learnt: Binding = {
      device: name,
      channel: heard.channel,
      control: heard.kind === "bend" ? "bend" : heard.number,
      touch: note ? note.number : null,
    };
    for (const control of controls.values()) control.gone();
    setBinding(learnt);
    tell(`The hand follows ${words(learnt)}.`);
  }
  const { binding } = useControllers.getState();
  if (binding.device !== null && binding.device !== name) return;
  controlOf(device, "controller").hear(heard, binding);
}

/** The next control that is moved is the one that the hand follows. */
export const learn = (learning: boolean) => useControllers.setState({ learning });

export const forgetLearnt = () => setBinding(AS_IT_COMES);

function setBinding(binding: Binding) {
  localStorage.setItem(KEPT, JSON.stringify(binding));
  useControllers.setState({ binding, learning: false });
}

/** A control in words. */
export function words({ device, channel, control, touch }: Binding): string {
  const what = control === "bend" ? "pitch bend" : `control ${control}`;
  const where = channel === null ? "of any channel" : `of channel ${channel + 1}`;
  return `${what} ${where}${device === null ? ", any controller" : `, ${device}`}${touch === null ? "" : ", with its touch"}`;
}

// --- the stand-in

const STAND_IN = "stand-in";
/** What the stand-in sends; see ``standin/main.ts``. */
const ITS_BINDING: Binding = { device: null, channel: 15, control: 7, touch: 60 };
const SILENT = 1000;
const AGAIN = 1000;
const SHOWN_EVERY = 150;

let listening: AbortController | null = null;

/** Listen to the stand-in, or no longer. */
export function switchStandIn(on: boolean) {
  useControllers.setState({ standIn: on });
  listening?.abort();
  listening = null;
  if (!on) return controls.get(STAND_IN)?.gone();
  const abort = new AbortController();
  listening = abort;
  void listen(abort.signal);
}

async function listen(signal: AbortSignal) {
  const control = controlOf(STAND_IN, "stand-in");
  let quiet = 0;
  let shown = "";
  const timer = window.setInterval(() => {
    const now = JSON.stringify(state());
    if (now !== shown) void api.showHand(state());
    shown = now;
  }, SHOWN_EVERY);
  signal.addEventListener("abort", () => window.clearInterval(timer));
  while (!signal.aborted) {
    try {
      await api.listenToHand((bytes) => {
        // closed in the middle of a gesture, it falls silent: that counts as let go
        window.clearTimeout(quiet);
        quiet = window.setTimeout(() => control.gone(), SILENT);
        for (const heard of read(bytes)) control.hear(heard, ITS_BINDING);
      }, signal);
    } catch {
      // it is tried again until it is switched off
    }
    control.gone();
    await new Promise((done) => window.setTimeout(done, AGAIN));
  }
}

/** What the stand-in shows of the hand. */
function state() {
  const { mode, armed, writing } = useRiding.getState();
  const { lane, playing } = useView.getState();
  const { low, high } = handLimits();
  return {
    track: focused()?.name ?? "",
    lane: LANE_NAMES[lane],
    db: Math.round(handValue() * 10) / 10,
    low,
    high,
    mode,
    armed,
    writing,
    playing,
  };
}

/** Nothing from outside moves the hand any more. */
export function stopControllers() {
  void switchMidi(false);
  switchStandIn(false);
}
