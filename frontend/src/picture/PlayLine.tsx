/** The play line over all strips. It moves without rendering; while playing, the window follows page by page. */
import { useEffect, useRef } from "react";
import { duration } from "../model/server/focus";
import { fitWindow, onRedraw, useView } from "../model/view/view";
import { engine } from "../sound/engine";
import { axis, GUTTER } from "./axis";
import "./PlayLine.css";

const TURN = 0.94;

export function PlayLine() {
  const ref = useRef<HTMLDivElement>(null);
  const playing = useView((s) => s.playing);

  useEffect(() => {
    const element = ref.current!;
    const place = () => {
      const { window } = useView.getState();
      const width = element.parentElement?.clientWidth ?? 0;
      const x = axis(window, width).x(engine.seconds);
      element.hidden = x < GUTTER - 1 || x > width;
      element.style.transform = `translateX(${x.toFixed(2)}px)`;
    };
    place();
    const stop = onRedraw(place);
    if (!playing) return stop;
    let frame = 0;
    let followed = engine.seconds;
    const tick = () => {
      const now = engine.seconds;
      const { window, loop } = useView.getState();
      const length = window.end - window.start;
      const turn = window.start + length * TURN;
      // only what leaves the window by playing turns the page; whoever scrolled away is left in peace
      if (!loop && followed <= turn && now > turn && now < window.end + length * 0.2) {
        useView.setState({ window: fitWindow(now - length * 0.06, now + length * 0.94, duration()) });
      }
      followed = now;
      place();
      frame = requestAnimationFrame(tick);
    };
    frame = requestAnimationFrame(tick);
    return () => {
      cancelAnimationFrame(frame);
      stop();
    };
  }, [playing]);

  return <div ref={ref} className="play-line" data-testid="play-line" />;
}
