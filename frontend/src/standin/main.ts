/**
 * The stand-in: one large fader for a finger or a mouse, in a window or on a device of its own. It sends what a controller with
 * a touch would send - a note while it is held, a control of 14 bits - through the program to the page that listens.
 */
import "@fontsource-variable/atkinson-hyperlegible-next";
import "@fontsource-variable/jetbrains-mono";
import "./standin.css";

const NOTE = 60;
const COARSE = 7;
const FINE = 39;
const CHANNEL = 15;
const [NOTE_ON, CONTROL, SENSING] = [0x90 | CHANNEL, 0xb0 | CHANNEL, 0xfe];
const MIDDLE = 8192;
const MOST = 16383;
const SENSE_EVERY = 300;
const LOOK_EVERY = 400;

interface Shown {
  track: string;
  lane: string;
  db: number;
  low: number;
  high: number;
  mode: string;
  armed: boolean;
  writing: boolean;
  playing: boolean;
}

const part = (id: string) => document.getElementById(id)!;
const [field, knob, note] = [part("field"), part("knob"), part("note")];

let value = MIDDLE;
let held: { pointer: number; y: number; db: number } | null = null;
/** What has to arrive, in order, and the newest of the moves: of those that pile up the last counts. */
let due: number[] = [];
let newest: number[] = [];
let sending = false;
let shown: Shown | null = null;

async function send() {
  if (sending) return;
  sending = true;
  try {
    do {
      const body = new Uint8Array([...due, ...newest]);
      due = [];
      newest = [];
      const answer = await fetch("/api/hand", { method: "POST", body });
      if (!answer.ok) throw new Error(String(answer.status));
      look((await answer.json()) as { listeners: number; shown: Shown | null });
    } while (due.length || newest.length);
  } catch {
    due = [];
    newest = [];
    note.textContent = "The program does not answer. Is it still running?";
  }
  sending = false;
}

/** Send what must not be lost, behind the moves that came before it. */
function say(...bytes: number[]) {
  due.push(...newest, ...bytes);
  newest = [];
  void send();
}

function look(answer: { listeners: number; shown: Shown | null }) {
  shown = answer.shown;
  part("lane").textContent = shown ? `${shown.track}: ${shown.lane}` : "hand";
  part("mode").textContent = shown ? (shown.writing ? "writing" : shown.armed ? `${shown.mode}, armed` : "listen") : "";
  document.body.dataset.writing = String(shown?.writing ?? false);
  note.textContent =
    answer.listeners === 0
      ? "No page listens. Open a session, stage Ride, and switch the stand-in on in the menu of the hand."
      : shown && !shown.playing
        ? "Nothing plays: what you do is heard as soon as it does."
        : "Touch anywhere and move: it begins from where the hand is.";
  draw();
}

function draw() {
  const [low, high] = [shown?.low ?? -20, shown?.high ?? 6];
  // the finger is followed at once; what is heard is told a little later
  const db = held ? held.db + ((value - MIDDLE) / MOST) * (high - low) : (shown?.db ?? 0);
  const share = Math.min(Math.max((db - low) / (high - low), 0), 1);
  knob.style.bottom = `${share * 100}%`;
  part("db").textContent = shown ? `${db < 0 ? "−" : "+"}${Math.abs(db).toFixed(1)} dB` : "";
  part("scale").style.bottom = `${((0 - low) / (high - low)) * 100}%`;
  field.setAttribute("aria-valuemin", String(low));
  field.setAttribute("aria-valuemax", String(high));
  field.setAttribute("aria-valuenow", String(db));
}

const position = () => [CONTROL, COARSE, value >> 7, CONTROL, FINE, value & 127];

function begin(pointer: number, y: number) {
  if (held) return;
  held = { pointer, y, db: shown?.db ?? 0 };
  // it may go as far up as down, wherever it was left
  value = MIDDLE;
  field.dataset.held = "true";
  say(...position(), NOTE_ON, NOTE, 127);
}

function move(y: number) {
  if (!held) return;
  const way = (held.y - y) / field.clientHeight;
  const next = Math.min(Math.max(MIDDLE + Math.round(way * MOST), 0), MOST);
  if (next === value) return;
  value = next;
  newest = position();
  draw();
  void send();
}

function end() {
  if (!held) return;
  held = null;
  delete field.dataset.held;
  say(NOTE_ON, NOTE, 0);
}

field.addEventListener("pointerdown", (event) => {
  field.setPointerCapture(event.pointerId);
  begin(event.pointerId, event.clientY);
});
field.addEventListener("pointermove", (event) => {
  if (event.pointerId === held?.pointer) move(event.clientY);
});
for (const name of ["pointerup", "pointercancel", "lostpointercapture"] as const)
  field.addEventListener(name, (event) => {
    if (event.pointerId === held?.pointer) end();
  });

let key: { y: number } | null = null;
const KEYS: Record<string, number> = { ArrowUp: -1, ArrowDown: 1 };
field.addEventListener("keydown", (event) => {
  const way = KEYS[event.key];
  if (!way) return;
  event.preventDefault();
  key ??= { y: 0 };
  begin(-1, 0);
  key.y += (way * field.clientHeight) / 52;
  move(key.y);
});
field.addEventListener("keyup", (event) => {
  if (!(event.key in KEYS)) return;
  key = null;
  end();
});

window.addEventListener("pagehide", () => {
  if (held) navigator.sendBeacon("/api/hand", new Uint8Array([NOTE_ON, NOTE, 0]));
});
window.setInterval(() => {
  if (held) say(SENSING);
}, SENSE_EVERY);
window.setInterval(() => {
  if (!held && document.visibilityState === "visible") void send();
}, LOOK_EVERY);
draw();
void send();
