/** A canvas that fills its box at the screen's own resolution and draws itself when asked to. */
import { useEffect, useRef } from "react";
import { onRedraw, redraw } from "../model/view/view";

interface Props {
  draw: (ctx: CanvasRenderingContext2D, width: number, height: number) => void;
}

export function Canvas({ draw }: Props) {
  const ref = useRef<HTMLCanvasElement>(null);
  const latest = useRef(draw);
  latest.current = draw;
  // what is drawn may depend on anything that made its owner render
  useEffect(redraw);

  useEffect(() => {
    const canvas = ref.current!;
    let [width, height] = [0, 0];
    const paint = () => {
      const ratio = window.devicePixelRatio || 1;
      if (width === 0 || height === 0) return;
      if (canvas.width !== Math.round(width * ratio) || canvas.height !== Math.round(height * ratio)) {
        canvas.width = Math.round(width * ratio);
        canvas.height = Math.round(height * ratio);
      }
      const ctx = canvas.getContext("2d")!;
      ctx.setTransform(ratio, 0, 0, ratio, 0, 0);
      latest.current(ctx, width, height);
    };
    // it tells the size at once, before anything of it is on the screen; to ask for it in every frame is to lay the page out then
    const observer = new ResizeObserver(() => {
      width = canvas.clientWidth;
      height = canvas.clientHeight;
      paint();
    });
    observer.observe(canvas);
    const stop = onRedraw(paint);
    return () => {
      observer.disconnect();
      stop();
    };
  }, []);

  return <canvas ref={ref} className="strip-canvas" />;
}
