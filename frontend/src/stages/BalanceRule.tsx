/** The rule of the stage Balance, in two leaves: the bed that makes room, and what the compressor has to do. */
import { Button, Group, SegmentedControl, Switch, Tooltip } from "@mantine/core";
import type { ComponentProps } from "react";
import type { DuckRule, Load, LoadChange, LoadFigures, Track } from "../api/client";
import {
  acceptDuck,
  bedInHand,
  draftDuck,
  dropDuck,
  duckRule,
  hearLoad,
  type Leaf,
  lockSpan,
  refreshBalance,
  setDuck,
  setLoad,
  takeThreshold,
  useBalance,
  useBalanceFigures,
} from "../model/drafts/balance";
import { setKind } from "../model/heard/mix";
import { rangeOf, trackOf, useSession } from "../model/server/session";
import { useView } from "../model/view/view";
import { capital, db, signed } from "../parts/format";
import { Roving } from "../parts/roving";
import { KeptRow, SliderRow } from "../parts/SliderRow";
import { FineValues } from "./FineValues";
import { RulePanel } from "./RulePanel";
import { SlowRide } from "./SlowRide";

export function BalanceRule() {
  const leaf = useBalance((s) => s.leaf);
  return (
    <RulePanel>
      <div className="panel-head">
        <SegmentedControl
          size="xs"
          fullWidth
          aria-label="Against the bed, or into the compressor"
          value={leaf}
          onChange={(value) => useBalance.setState({ leaf: value as Leaf })}
          data={[
            { value: "bed", label: "against the bed" },
            { value: "load", label: "into the compressor" },
          ]}
        />
      </div>
      {leaf === "bed" ? <BedLeaf /> : <LoadLeaf />}
    </RulePanel>
  );
}

// --- the bed

function BedLeaf() {
  const header = useSession((s) => s.header);
  useView((s) => s.focus);
  const state = useBalance();
  const bed = bedInHand();
  const rule = duckRule();
  const ranges = useSession((s) => s.terms?.settings);
  const distance = useBalanceFigures().bed?.distance ?? null;
  if (!header) return null;
  if (!bed || !rule) return <NoBed tracks={header.tracks} />;
  const { duckDraft, slowDraft } = state;
  return (
    <>
      <p className="rule-line">
        <strong>{bed.name}</strong> makes room
      </p>
      <SegmentedControl
        size="xs"
        fullWidth
        aria-label="By so much, or to a distance"
        value={rule.way}
        onChange={(way) => setDuck({ way: way as DuckRule["way"] })}
        data={[
          { value: "depth", label: "by an amount" },
          { value: "distance", label: "to a distance" },
        ]}
      />
      {rule.way === "depth" ? (
        <SliderRow
          name="Duck by"
          value={rule.depth}
          {...rangeOf(ranges, "duck.depth")}
          step={0.5}
          unit="dB"
          set={(depth) => setDuck({ depth })}
        />
      ) : (
        <SliderRow
          name="Voice above it by"
          value={rule.distance}
          {...rangeOf(ranges, "duck.distance")}
          step={0.5}
          unit="LU"
          set={(value) => setDuck({ distance: value })}
        />
      )}
      <div className="rule-foot">
        <Roving name="Draft" className="acts">
          {duckDraft ? (
            <>
              <Button size="xs" flex={1} onClick={() => void acceptDuck()}>
                Accept<kbd>D</kbd>
              </Button>
              <Button size="xs" variant="default" onClick={dropDuck}>
                Discard
              </Button>
            </>
          ) : (
            <Button size="xs" flex={1} onClick={() => draftDuck()}>
              Draft ducking<kbd>D</kbd>
            </Button>
          )}
          <FineDuck rule={rule} />
        </Roving>
        <p className="note" role="status">
          {duckDraft
            ? `${said(duckDraft.kept, duckDraft.count, rule.distance)}, with ${duckDraft.points.length} points. ${duckDraft.told ? `${capital(duckDraft.told)}.` : ""}`
            : distance && distance.mean !== null
              ? `${said(distance.kept, distance.phrases.filter((p) => p.distance !== null).length, rule.distance)}; mean ${signed(distance.mean)}, closest ${signed(distance.worst!)} LU.`
              : distance && "No phrase lies over the bed."}
        </p>
        <Missing />
      </div>
      <SlowRide bed={bed} draft={slowDraft} />
    </>
  );
}

const said = (kept: number, count: number, wanted: number) =>
  `${kept} of ${count} phrases keep ${wanted.toFixed(1)} LU`;
function NoBed({ tracks }: { tracks: Track[] }) {
  return (
    <div className="rule-foot">
      <p className="note">
        No track is a bed. Import music or ambience in Survey, or treat a track as a bed here: a bed has no phrases, and
        ducks under the voices.
      </p>
      <Roving name="Tracks that may be a bed" axis="either">
        {tracks.map((track) => (
          <Button key={track.id} size="compact-xs" variant="default" onClick={() => void setKind(track.id, "bed")}>
            Treat {track.name} as a bed
          </Button>
        ))}
      </Roving>
    </div>
  );
}

const FINE = [
  { name: "lead", label: "Start early by", path: "duck.lead", step: 10, unit: "ms", scale: 1000 },
  { name: "hold", label: "Hold through pauses under", path: "duck.hold", step: 0.1, unit: "s", scale: 1 },
  { name: "release", label: "Release over", path: "duck.release", step: 50, unit: "ms", scale: 1000 },
  { name: "most_down", label: "Duck by at most", path: "duck.most_down", step: 1, unit: "dB", scale: 1 },
] as const;

/** How the bed moves, and which spans of it drafts leave alone. */
function FineDuck({ rule }: { rule: DuckRule }) {
  const bed = bedInHand();
  const locked = bed?.duck.locked.length ?? 0;
  return (
    <FineValues values={FINE} rule={rule} set={(name, value) => setDuck({ [name]: value })}>
      <Group gap={6}>
        <Button size="compact-xs" variant="default" onClick={() => lockSpan(true)}>
          Lock the span
        </Button>
        <Button size="compact-xs" variant="default" disabled={locked === 0} onClick={() => lockSpan(false)}>
          Unlock it
        </Button>
      </Group>
      <p className="note">{locked === 1 ? "1 span is locked." : `${locked} spans are locked.`}</p>
    </FineValues>
  );
}

// --- the compressor

function LoadLeaf() {
  const focus = useView((s) => s.focus);
  const track = useSession((s) => trackOf(s, focus));
  const { load: figures, working } = useBalanceFigures();
  const load = figures?.load ?? null;
  const heard = useView((s) => s.load);
  const behind = useView((s) => s.behind);
  if (!track) return null;
  if (track.kind !== "voice") return <p className="note">Beds are not compressed here. Choose a voice.</p>;
  const { load: set } = track;
  return (
    <>
      <div className="slider-row">
        <Switch
          size="xs"
          label="Hear the voices through it (W)"
          checked={heard}
          onChange={(event) => hearLoad(event.currentTarget.checked)}
        />
      </div>
      <Kept name="Threshold" value={set.threshold} step={0.5} unit="dBFS" of="threshold" />
      <Group gap={6} grow wrap="nowrap" className="rule-pair">
        <Kept name="Ratio" value={set.ratio} step={0.5} unit=": 1" of="ratio" />
        <Kept name="Make-up" value={set.makeup} step={0.5} unit="dB" of="makeup" />
      </Group>
      <Group gap={6} grow wrap="nowrap" className="rule-pair">
        <Kept name="Attack" value={set.attack} step={1} unit="ms" of="attack" scale={1000} />
        <Kept name="Release" value={set.release} step={10} unit="ms" of="release" scale={1000} />
      </Group>
      <div className="rule-foot">
        <ThresholdAfter track={track} load={load} />
        <SegmentedControl
          size="xs"
          fullWidth
          aria-label="Gain ahead of the compressor, or behind it"
          value={behind ? "behind" : "ahead"}
          onChange={(value) => useView.setState({ behind: value === "behind" })}
          data={[
            { value: "ahead", label: "gain ahead of it" },
            { value: "behind", label: "gain behind it" },
          ]}
        />
        {load?.order && <Order load={load} behind={behind} />}
        {!load && working && <p className="note">Analysing …</p>}
        <Missing />
      </div>
    </>
  );
}

/** Figures that were called off are had again where they are missed. */
function Missing() {
  const { missing } = useBalanceFigures();
  if (!missing) return null;
  return (
    <p className="note">
      The figures are missing.{" "}
      <Button size="compact-xs" variant="default" onClick={refreshBalance}>
        Calculate them
      </Button>
    </p>
  );
}

/** A value of the compressor, which is worked out when the hand lets go. */
function Kept({
  of,
  ...row
}: Omit<ComponentProps<typeof KeptRow>, "save" | "low" | "high"> & { of: keyof LoadChange }) {
  const { low, high } = rangeOf(
    useSession((s) => s.terms?.settings),
    `load.${of}`,
  );
  const scale = row.scale ?? 1;
  const save = (next: number) => setLoad({ [of]: next } as LoadChange);
  return <KeptRow {...row} low={low * scale} high={high * scale} save={save} />;
}

/** The threshold that follows: what gives After the same average work as Before has. */
function ThresholdAfter({ track, load }: { track: Track; load: Load | null }) {
  const own = track.load.threshold_after;
  return (
    <div className="slider-head">
      <span>
        For After: <span className="mono">{own === null ? "same" : db(own)}</span>
      </span>
      <Group gap={6} wrap="nowrap">
        {load && Math.abs((own ?? track.load.threshold) - load.proposed) >= 0.05 && (
          <Tooltip label="The threshold at which After is worked on as hard as Before, on the average">
            <Button size="compact-xs" onClick={takeThreshold}>
              Use {db(load.proposed)}
              <kbd>D</kbd>
            </Button>
          </Tooltip>
        )}
        {own !== null && (
          <Button size="compact-xs" variant="default" onClick={() => void setLoad({ same_threshold: true })}>
            Use the same
          </Button>
        )}
      </Group>
    </div>
  );
}

/** Quiet and loud half of the phrases, with the gain on this side of the compressor. */
function Order({ load, behind }: { load: Load; behind: boolean }) {
  const order = load.order!;
  const [quiet, loud, spread] = behind
    ? [order.behind_quiet, order.behind_loud, order.behind_spread]
    : [order.ahead_quiet, order.ahead_loud, order.ahead_spread];
  const [soft, hard] = behind
    ? [order.behind_quiet_crest, order.behind_loud_crest]
    : [order.ahead_quiet_crest, order.ahead_loud_crest];
  return (
    <p className="note" role="status">
      Quiet half −{quiet.toFixed(1)} dB, loud half −{loud.toFixed(1)} dB; crest {soft.toFixed(1)} and {hard.toFixed(1)}{" "}
      dB. Out of it come phrases with a spread of {spread.toFixed(1)} LU.
    </p>
  );
}

export const LOAD_ROWS: [string, (f: LoadFigures) => string][] = [
  ["Average", (f) => `${f.average.toFixed(1)} dB`],
  ["Spread", (f) => `${f.spread.toFixed(1)} dB`],
  ["Highest", (f) => `${f.highest.toFixed(1)} dB`],
  ["Over 3 dB", (f) => `${Math.round(100 * f.over3)} %`],
  ["Over 6 dB", (f) => `${Math.round(100 * f.over6)} %`],
  ["Over 10 dB", (f) => `${Math.round(100 * f.over10)} %`],
];
