/** What the hand is doing right now, beside it: value, unit, distance to the target. Moved without rendering. */
import { useEffect, useRef } from "react";

let element: HTMLDivElement | null = null;

export function showAtHand(x: number, y: number, lines: string[]) {
  if (!element) return;
  element.hidden = false;
  element.textContent = lines.join("\n");
  const right = x + 170 > window.innerWidth;
  element.style.transform = `translate(${right ? x - 176 : x + 16}px, ${Math.min(y + 14, window.innerHeight - 64)}px)`;
}

export function hideAtHand() {
  if (element) element.hidden = true;
}

export function HandLabel() {
  const ref = useRef<HTMLDivElement>(null);
  useEffect(() => {
    element = ref.current;
    return () => {
      element = null;
    };
  }, []);
  return <div ref={ref} className="hand-label mono" hidden role="status" aria-live="off" />;
}
