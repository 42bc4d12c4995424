/** What of the time is in the window. */
import { duration, selectedSpan } from "../server/focus";
import { fitWindow, redraw, type Span, useView } from "../view/view";

export function show(span: Span, margin = 0.25) {
  const pad = (span.end - span.start) * margin;
  useView.setState({ window: fitWindow(span.start - pad, span.end + pad, duration()) });
  redraw();
}

export function fitSelection() {
  const span = selectedSpan();
  if (span) show(span);
  else fitAll();
}

export const fitAll = () => show({ start: 0, end: duration() }, 0);

/** Bring a span into the window without changing the zoom, if it is not in it. */
export function reveal(span: Span) {
  const { window } = useView.getState();
  if (span.start >= window.start && span.end <= window.end) return;
  const length = Math.max(window.end - window.start, (span.end - span.start) * 1.4);
  const middle = (span.start + span.end) / 2;
  useView.setState({ window: fitWindow(middle - length / 2, middle + length / 2, duration()) });
  redraw();
}
