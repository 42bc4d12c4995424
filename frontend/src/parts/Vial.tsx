/** The vial: bubble between the marks = within tolerance, off to the right = too loud, to the left = too quiet. */
import { useId } from "react";
import { px } from "./step";
import "./Vial.css";

const ENDS_AT = 6;

/** Where the bubble stands, -1 ... 1: the marks lie at +-1/3, the ends of the tube at +-6 LU. */
export function bubbleAt(deviation: number, tolerance: number): number {
  const inner = Math.max(tolerance, 0.1);
  const size = Math.abs(deviation);
  const outer = Math.max(ENDS_AT - inner, 0.1);
  const place = size <= inner ? (size / inner) * 0.3 : 0.38 + 0.62 * Math.min((size - inner) / outer, 1);
  return Math.sign(deviation) * place;
}

interface Props {
  deviation: number | null;
  tolerance: number;
  width?: number;
  height?: number;
  unit?: string;
}

export function Vial({ deviation, tolerance, width = 46, height = 15, unit = "LU" }: Props) {
  const id = useId();
  const r = height / 2 - 1;
  const reach = width / 2 - r - 3.5;
  const x = width / 2 + (deviation === null ? 0 : bubbleAt(deviation, tolerance) * reach);
  const mark = reach / 3 + r * 0.62;
  const words =
    deviation === null
      ? "no level"
      : Math.abs(deviation) <= tolerance + 1e-9
        ? "level"
        : `${Math.abs(deviation).toFixed(1)} ${unit} too ${deviation > 0 ? "loud" : "quiet"}`;
  return (
    <svg
      width={px(width)}
      height={px(height)}
      viewBox={`0 0 ${width} ${height}`}
      role="img"
      aria-label={words}
      className="vial"
    >
      <title>{words}</title>
      <clipPath id={id}>
        <rect x={1} y={1} width={width - 2} height={height - 2} rx={r} />
      </clipPath>
      <rect x={1} y={1} width={width - 2} height={height - 2} rx={r} className="vial-glass" />
      <path d={`M${width / 2 - mark} 1v${height - 2}M${width / 2 + mark} 1v${height - 2}`} className="vial-mark" />
      {deviation !== null && (
        <ellipse cx={x} cy={height / 2} rx={r * 0.86} ry={r * 0.66} className="vial-bubble" clipPath={`url(#${id})`} />
      )}
    </svg>
  );
}

/** The deviation that lies furthest out: the bubble is between the marks only when every phrase is. */
export function worst(deviations: number[]): number | null {
  if (deviations.length === 0) return null;
  return deviations.reduce((a, b) => (Math.abs(b) > Math.abs(a) ? b : a));
}
