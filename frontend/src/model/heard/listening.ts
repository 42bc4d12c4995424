/** Playing, stopping, looping, and what of the gain is heard. */
import { engine } from "../../sound/engine";
import { duration, selectedSpan } from "../server/focus";
import { type Layer, redraw, type Span, useView } from "../view/view";
import { heardLength } from "./mix";

export function play(from: number, to = heardLength(), loop = false) {
  afterwards = null;
  useView.setState({ playing: true });
  void engine.play(from, to, loop);
}

/** What is to be played when what is playing has come to its end. */
let afterwards: (() => void) | null = null;

export function stop() {
  afterwards = null;
  engine.stop();
}

/** Called by the engine when playing has ended, by itself or by hand. */
export function onStopped() {
  useView.setState({ playing: false });
  const next = afterwards;
  afterwards = null;
  next?.();
}

/** Play a span; twice, first as it was recorded and then with its gain, if that is asked for. */
export function playSpan(span: Span, twice: boolean) {
  afterwards = null;
  if (!twice) return play(span.start, span.end);
  setBefore(true);
  play(span.start, span.end);
  afterwards = () => {
    setBefore(false);
    play(span.start, span.end);
  };
}

export function playOrStop() {
  if (useView.getState().playing) return stop();
  const span = selectedSpan();
  if (useView.getState().loop && span) return play(span.start, span.end, true);
  const at = engine.seconds;
  play(at >= heardLength() - 0.01 ? 0 : at);
}

/** The selection with a second around it; only the selection, again and again, while looping is on. */
export function playSelection() {
  const span = selectedSpan();
  if (!span) return playOrStop();
  if (useView.getState().loop) return play(span.start, span.end, true);
  const { stage, twice } = useView.getState();
  const around = { start: Math.max(0, span.start - 1), end: Math.min(heardLength(), span.end + 1) };
  playSpan(around, twice && stage === "details");
}

export function setLoop(loop: boolean) {
  useView.setState({ loop });
  if (!engine.playing) return;
  const span = selectedSpan();
  if (loop && span) play(span.start, span.end, true);
  else if (!loop) play(engine.seconds);
}

export function seek(seconds: number) {
  engine.seek(Math.min(Math.max(seconds, 0), duration()));
  redraw();
}

export const setBefore = (before: boolean) => useView.setState({ before });
export const setLayer = (layer: Layer, on: boolean) =>
  useView.setState((view) => ({ layers: { ...view.layers, [layer]: on } }));
