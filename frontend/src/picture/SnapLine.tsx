/** The line that shows what the hand is drawn to. Moved without rendering. */
import { useEffect, useRef } from "react";
import { setSnapLine } from "./snapping";
import "./SnapLine.css";

export function SnapLine() {
  const ref = useRef<HTMLDivElement>(null);
  useEffect(() => {
    setSnapLine(ref.current);
    return () => setSnapLine(null);
  }, []);
  return <div ref={ref} className="snap-line" data-testid="snap-line" hidden />;
}
