/** Levelling a track without phrases - a bed, an ensemble in a room - by its short-term loudness. */
import { Button, Group } from "@mantine/core";
import type { Track } from "../api/client";
import { acceptSlow, draftSlow, dropDuck, setSlow, slowRule, useBalance } from "../model/balance";
import { useSession } from "../model/session";
import { SliderRow } from "../parts/SliderRow";

export function SlowRide({
  bed,
  draft,
}: {
  bed: Track;
  draft: { points: unknown[]; before: number; after: number } | null;
}) {
  // what is set is that of this bed
  useBalance((s) => s.slow);
  const set = slowRule();
  const most = useSession((s) => s.terms?.slow_most_down ?? 0);
  return (
    <div className="rule-foot">
      <SliderRow
        name="Slow ride: at most"
        value={set.most_down ?? most}
        low={0}
        high={24}
        step={1}
        unit="dB"
        digits={0}
        set={(down) => setSlow({ most_down: down, most_up: Math.min(down, 12) })}
      />
      <Group gap={8} wrap="nowrap">
        {draft ? (
          <>
            <Button size="compact-sm" flex={1} onClick={() => void acceptSlow()}>
              Accept the slow ride
            </Button>
            <Button size="compact-sm" variant="default" onClick={dropDuck}>
              Drop
            </Button>
          </>
        ) : (
          <Button size="compact-sm" flex={1} variant="default" onClick={() => draftSlow()}>
            Even out {bed.name} slowly
          </Button>
        )}
      </Group>
      {draft && (
        <p className="note" role="status">
          Range {draft.before.toFixed(1)} → {draft.after.toFixed(1)} LU, with {draft.points.length} points.
        </p>
      )}
    </div>
  );
}
