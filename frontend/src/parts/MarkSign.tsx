/** The signs of marks: the same in ribbon, worklist and rules. Drawn in a box of 14 by 14. */
import { px } from "./step";
import "./MarkSign.css";

interface Sign {
  path: string;
  /** Width of the line; 0 fills the form. */
  line: number;
}

export const SIGN = 14;
export const SIGNS: Record<string, Sign> = {
  breath: { path: "M1 8q1.5-4.5 3 0t3 0t3 0t3 0", line: 1.5 },
  ess: { path: "M4.5 2.5l-2 9M8 2.5l-2 9M11.5 2.5l-2 9", line: 1.1 },
  knock: { path: "M7 1.5L11 7L7 12.5L3 7Z", line: 0 },
  gap: { path: "M1.6 10.5h.01M5.2 10.5h.01M8.8 10.5h.01M12.4 10.5h.01", line: 2.2 },
  dip: { path: "M1.5 4h2.5l3 6.5l3-6.5h2.5", line: 1.5 },
};

export function MarkSign({ kind, title }: { kind: string; title?: string }) {
  const sign = SIGNS[kind] ?? SIGNS.dip!;
  return (
    <svg
      className="mark-sign"
      width={px(SIGN)}
      height={px(SIGN)}
      viewBox={`0 0 ${SIGN} ${SIGN}`}
      role={title ? "img" : undefined}
      aria-hidden={title ? undefined : true}
      aria-label={title}
    >
      <path
        d={sign.path}
        fill={sign.line === 0 ? "currentColor" : "none"}
        stroke={sign.line === 0 ? "none" : "currentColor"}
        strokeWidth={sign.line}
        strokeLinecap="round"
        strokeLinejoin="round"
      />
    </svg>
  );
}
