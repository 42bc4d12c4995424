/** A bed has no phrases to be level: a quiet ground line. */
import { px } from "./step";

export const BedSign = () => (
  <svg width={px(34)} height={px(12)} viewBox="0 0 34 12" role="img" aria-label="Bed">
    <path d="M1 9 q4 -5 8 0 t8 0 t8 0 t8 0" fill="none" stroke="currentColor" strokeWidth="1.2" />
  </svg>
);
