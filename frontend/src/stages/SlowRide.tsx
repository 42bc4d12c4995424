/** Levelling a track without phrases - a bed, an ensemble in a room - by its short-term loudness. */
import { Button } from "@mantine/core";
import type { SlowDraft, Track } from "../api/client";
import { acceptSlow, draftSlow, dropDuck, setSlow, slowRule, useBalance } from "../model/drafts/balance";
import { rangeOf, useSession } from "../model/server/session";
import { signed } from "../parts/format";
import { Roving } from "../parts/roving";
import { SliderRow } from "../parts/SliderRow";

export function SlowRide({ bed, draft }: { bed: Track; draft: SlowDraft | null }) {
  // what is set is that of this bed
  useBalance((s) => s.slow);
  const set = slowRule();
  const ranges = useSession((s) => s.terms?.settings);
  const most = useSession((s) => s.terms?.slow_most_down ?? 0);
  return (
    <div className="rule-foot">
      <SliderRow
        name="Slow ride limit"
        title="Slow ride limit, up and down"
        value={set.most_down ?? most}
        {...rangeOf(ranges, "slow.most_down")}
        step={1}
        unit="dB"
        digits={0}
        set={(by) => setSlow({ most_down: by, most_up: by })}
      />
      <Roving name="Slow ride" className="acts">
        {draft ? (
          <>
            <Button size="compact-sm" flex={1} onClick={() => void acceptSlow()}>
              Accept the slow ride
            </Button>
            <Button size="compact-sm" variant="default" onClick={dropDuck}>
              Discard
            </Button>
          </>
        ) : (
          <Button size="compact-sm" flex={1} variant="default" onClick={() => draftSlow()}>
            Even out {bed.name} slowly
          </Button>
        )}
      </Roving>
      {draft && (
        <p className="note" role="status">
          {told(draft, bed)}
        </p>
      )}
    </div>
  );
}

/** What a slow ride would do: to the loudness range, how far it moves, and what of it the working range has to take in. */
function told(draft: SlowDraft, bed: Track): string {
  const gains = draft.points.map((point) => point.db);
  const [low, high] = [Math.min(...gains), Math.max(...gains)];
  const range = `Range ${draft.before.toFixed(1)} → ${draft.after.toFixed(1)} LU`;
  const moves = `moves from ${signed(low)} to ${signed(high)} dB, with ${draft.points.length} points.`;
  const widened = low < bed.range_low || high > bed.range_high ? " The working range is widened for it." : "";
  return `${range}, ${moves}${widened}`;
}
