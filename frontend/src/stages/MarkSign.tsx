/** The sign of a kind of mark: the same in ribbon, worklist and rules. */
import { type AnyKind, KIND_ROWS, SIGN } from "../model/view/kinds";
import { px } from "../parts/step";
import "./MarkSign.css";

export function MarkSign({ kind, title }: { kind: AnyKind; title?: string }) {
  const sign = KIND_ROWS[kind];
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
