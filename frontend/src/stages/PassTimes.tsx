/** How much earlier than it was heard a pass is meant, and how long it takes to come back: of one that lies there, and of those
 * that follow. */
import { useMemo } from "react";
import type { HowWritten } from "../api/client";
import { setHow } from "../model/passes/passes";
import { howWritten, useRiding } from "../model/passes/riding";
import { useSession } from "../model/server/session";
import { KeptRow } from "../parts/SliderRow";

export function useHow(): HowWritten {
  const set = useRiding((s) => s.how);
  const asItComes = useSession((s) => s.terms?.passes);
  return useMemo(() => howWritten(set, asItComes), [set, asItComes]);
}

export function PassTimes() {
  const how = useHow();
  const terms = useSession((s) => s.terms?.passes);
  if (!terms) return null;
  const times = [
    { of: "lead", name: "Shift earlier by", high: terms.most_lead, step: 10 },
    { of: "glide", name: "Glide back over", high: terms.most_glide, step: 50 },
  ] as const;
  return times.map(({ of, high, ...row }) => (
    <KeptRow
      key={of}
      {...row}
      value={how[of]}
      unit="ms"
      scale={1000}
      low={0}
      high={high * 1000}
      save={(to) => setHow({ [of]: to })}
    />
  ));
}
