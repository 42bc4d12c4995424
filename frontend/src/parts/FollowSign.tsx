/** Who follows another: a line that runs beside one. */
import { px } from "./step";

export const FollowSign = () => (
  <svg width={px(34)} height={px(12)} viewBox="0 0 34 12" role="img" aria-label="Follows another track">
    <path d="M1 3.5 h26" fill="none" stroke="currentColor" strokeWidth="1" opacity="0.55" />
    <path d="M7 8.5 h26" fill="none" stroke="currentColor" strokeWidth="2" strokeLinecap="round" />
  </svg>
);
