/** The kinds of detail, one row each: what they are called, and their sign. All else about them the server says. */
import type { Mark } from "../../api/client";

export type AnyKind = Mark["kind"];
/** A kind that is found; a dip that was made by hand is none. */
export type Kind = Exclude<AnyKind, "dip">;

interface KindRow {
  one: string;
  many: string;
  /** Its sign, drawn in a box of SIGN by SIGN. */
  path: string;
  /** Width of the line of the sign; 0 fills the form. */
  line: number;
  /** How the ribbon draws it over its whole length, where there is room. */
  along?: "wave" | "floor";
}

export const SIGN = 14;

export const KIND_ROWS: Record<AnyKind, KindRow> = {
  breath: { one: "Breath", many: "Breaths", path: "M1 8q1.5-4.5 3 0t3 0t3 0t3 0", line: 1.5, along: "wave" },
  ess: { one: "Ess", many: "Esses", path: "M4.5 2.5l-2 9M8 2.5l-2 9M11.5 2.5l-2 9", line: 1.1 },
  knock: { one: "Knock", many: "Knocks", path: "M7 1.5L11 7L7 12.5L3 7Z", line: 0 },
  gap: {
    one: "Gap",
    many: "Gaps",
    path: "M1.6 10.5h.01M5.2 10.5h.01M8.8 10.5h.01M12.4 10.5h.01",
    line: 2.2,
    along: "floor",
  },
  dip: { one: "Dip by hand", many: "By hand", path: "M1.5 4h2.5l3 6.5l3-6.5h2.5", line: 1.5 },
};

export const ALL_KINDS = Object.keys(KIND_ROWS) as AnyKind[];
export const KINDS = ALL_KINDS.filter((kind): kind is Kind => kind !== "dip");

/** All kinds in a sentence: "breaths, esses, knocks and gaps". */
export function listed(ending: "and" | "or", count: "one" | "many"): string {
  const names = KINDS.map((kind) => KIND_ROWS[kind][count].toLowerCase());
  return `${names.slice(0, -1).join(", ")} ${ending} ${names.at(-1)}`;
}
