/** The rule of the stage Ride: which lane is in hand, the draft of a ride, and the trim that lies over it. */
import { ActionIcon, Button, Menu, RangeSlider, SegmentedControl, Slider, Switch } from "@mantine/core";
import { IconDots } from "@tabler/icons-react";
import { useRef } from "react";
import { api, type LaneName, type Terms, type Track } from "../api/client";
import { useBalance } from "../model/drafts/balance";
import {
  acceptRideDraft,
  bringCurveIn,
  changeSpan,
  clearLane,
  dropRideDraft,
  foldTrim,
  hearTrim,
  makeBorders,
  makeRideDraft,
  moveLane,
  setRideRule,
  setTrim,
  smoothSpan,
  switchTrim,
} from "../model/hand/ride";
import { type RideValues, SMOOTHING, useInside, useRide, useRideRule } from "../model/hand/rideState";
import { useRiding } from "../model/passes/riding";
import { rangeOf, trackOf, useSession } from "../model/server/session";
import { LANE_NAMES, LANES, useView } from "../model/view/view";
import { FilePicker } from "../parts/FilePicker";
import { db } from "../parts/format";
import { Roving } from "../parts/roving";
import { RuleRow, SliderRow } from "../parts/SliderRow";
import { useHeld } from "../parts/useHeld";
import { FineValues } from "./FineValues";
import { RulePanel } from "./RulePanel";
import { SlowRide } from "./SlowRide";

export function RideRule() {
  const focus = useView((s) => s.focus);
  const lane = useView((s) => s.lane);
  const track = useSession((s) => trackOf(s, focus));
  const rule = useRideRule();
  const slowDraft = useBalance((s) => s.slowDraft);
  if (!track || !rule) return null;
  return (
    <RulePanel>
      <Roving name="Lane" className="panel-head">
        <SegmentedControl
          size="xs"
          aria-label="Lane in hand"
          value={lane}
          onChange={(value) => useView.setState({ lane: value as LaneName, points: new Set() })}
          data={LANES.filter((value) => value === "trim" || !track.follows).map((value) => ({
            value,
            label: LANE_NAMES[value],
          }))}
        />
        <LaneMenu track={track} lane={lane} />
      </Roving>
      {track.follows ? null : track.kind === "bed" ? <SlowRide bed={track} draft={slowDraft} /> : <VoiceRide />}
      <TrimRow key={track.id} trim={track.trim} canFold={track.lanes.includes("trim") && !track.follows} />
    </RulePanel>
  );
}

/** The draft of a ride that evens the inside of phrases. */
function VoiceRide() {
  const { draft } = useRide();
  const inside = useInside();
  const rule = useRideRule();
  const ranges = useSession((s) => s.terms?.settings);
  if (!rule || !ranges) return null;
  const after = mean(inside?.phrases.map((phrase) => phrase.after) ?? []);
  const before = mean(inside?.phrases.map((phrase) => phrase.before) ?? []);
  return (
    <>
      <SliderRow
        name="Strength"
        value={rule.strength}
        {...rangeOf(ranges, "ride.strength")}
        step={1}
        unit="%"
        digits={0}
        set={(strength) => setRideRule({ strength })}
      />
      <RuleRow title="Limits, down / up" value={`−${rule.most_down.toFixed(0)} / +${rule.most_up.toFixed(0)} dB`}>
        <RangeSlider
          size={3}
          thumbSize={14}
          label={null}
          thumbFromLabel="Lower limit"
          thumbToLabel="Upper limit"
          min={-rangeOf(ranges, "ride.most_down").high}
          max={rangeOf(ranges, "ride.most_up").high}
          minRange={0}
          step={1}
          value={[-rule.most_down, rule.most_up]}
          onChange={([low, high]) => setRideRule({ most_down: Math.max(-low, 0), most_up: Math.max(high, 0) })}
        />
      </RuleRow>
      <SliderRow
        name="Natural fall"
        value={rule.natural_fall}
        {...rangeOf(ranges, "ride.natural_fall")}
        step={0.5}
        unit="LU"
        set={(natural_fall) => setRideRule({ natural_fall })}
      />
      <div className="slider-row pace-row">
        <span>Moves</span>
        <SegmentedControl
          size="xs"
          aria-label="How the ride moves"
          value={rule.pace}
          onChange={(pace) => setRideRule({ pace: pace as RideValues["pace"] })}
          data={PACES}
        />
      </div>
      <div className="rule-foot">
        <Roving name="Draft" className="acts">
          {draft ? (
            <>
              <Button size="xs" flex={1} onClick={() => void acceptRideDraft()}>
                Accept the ride<kbd>D</kbd>
              </Button>
              <Button size="xs" variant="default" onClick={dropRideDraft}>
                Discard
              </Button>
            </>
          ) : (
            <DraftButton />
          )}
          <FineRule />
        </Roving>
        <p className="note" role="status">
          {draft
            ? `Inside the phrases ${draft.before.toFixed(1)} → ${draft.after.toFixed(1)} LU, with ${draft.points.length} points.`
            : before === null || after === null
              ? " "
              : `Inside the phrases ${before.toFixed(1)} → ${after.toFixed(1)} LU.`}
        </p>
      </div>
    </>
  );
}

const mean = (values: number[]) => (values.length ? values.reduce((a, b) => a + b, 0) / values.length : null);

function DraftButton() {
  const selection = useView((s) => s.selection);
  const span = useView((s) => s.span);
  // D keeps a pass that lies over the lane
  const isForPass = useRiding((s) => s.chosen !== null);
  const words = span ? "Draft within the span" : selection.size ? "Draft for these phrases" : "Draft a ride";
  return (
    <Button size="xs" flex={1} onClick={() => void makeRideDraft()}>
      {words}
      {!isForPass && <kbd>D</kbd>}
    </Button>
  );
}

const NO_FORMATS: Terms["curve_formats"] = [];

interface LaneMenuProps {
  track: { id: string; lanes: string[] };
  lane: LaneName;
}

/** What can be done with the lane in hand as a whole, or with the selected span of it. */
function LaneMenu({ track, lane }: LaneMenuProps) {
  const span = useView((s) => s.span);
  const smoothing = useRide((s) => s.smoothing);
  const formats = useSession((s) => s.terms?.curve_formats) ?? NO_FORMATS;
  const picker = useRef<HTMLInputElement>(null);
  const drawn = track.lanes.includes(lane);
  const name = LANE_NAMES[lane];
  const where = span ? "the span" : `the ${name}`;
  return (
    <>
      <Menu position="bottom-end" width={260}>
        <Menu.Target>
          <ActionIcon className="push" variant="subtle" size="sm" aria-label={`More about the ${name}`}>
            <IconDots size={16} />
          </ActionIcon>
        </Menu.Target>
        <Menu.Dropdown>
          {SMOOTHING.map((seconds) => (
            <Menu.Item
              key={seconds}
              disabled={!drawn}
              onClick={() => smoothSpan(seconds)}
              rightSection={seconds === smoothing ? <kbd>S</kbd> : undefined}
            >
              Smooth {where} over {seconds} s
            </Menu.Item>
          ))}
          <Menu.Item disabled={!drawn} onClick={() => changeSpan("thin")} rightSection={<kbd>T</kbd>}>
            Thin its points
          </Menu.Item>
          <Menu.Item onClick={() => makeBorders(false)} rightSection={<kbd>Shift+P</kbd>}>
            Add border points: two
          </Menu.Item>
          <Menu.Item onClick={() => makeBorders(true)}>Add border points: four</Menu.Item>
          <Menu.Divider />
          {LANES.filter((to) => to !== lane).map((to) => (
            <Menu.Item key={to} disabled={!drawn} onClick={() => moveLane(lane, to)}>
              Move {where} into the {LANE_NAMES[to]}
            </Menu.Item>
          ))}
          <Menu.Item disabled={!drawn} onClick={clearLane}>
            Remove the {name}
          </Menu.Item>
          <Menu.Divider />
          <Menu.Item onClick={() => picker.current?.click()}>Import a curve from a file …</Menu.Item>
          {formats.map(({ words, endings }) => (
            <Menu.Item
              key={words}
              disabled={!drawn}
              component="a"
              href={api.laneFile(track.id, lane, endings[0]!.slice(1))}
              download
            >
              Export it as {words}
            </Menu.Item>
          ))}
        </Menu.Dropdown>
      </Menu>
      <FilePicker
        ref={picker}
        label="Curve file"
        accept={formats.flatMap(({ endings }) => endings).join()}
        onFile={bringCurveIn}
      />
    </>
  );
}

const PACES: { value: RideValues["pace"]; label: string }[] = [
  { value: "calm", label: "calm" },
  { value: "usual", label: "usual" },
  { value: "quick", label: "quick" },
];

const FINE = [
  { name: "dead_band", label: "Leave alone within", path: "target.tolerance", step: 0.1, unit: "LU", scale: 1 },
  { name: "error", label: "Points may stray", path: "ride.error", step: 0.1, unit: "dB", scale: 1 },
] as const;

/** How the draft moves: what it leaves alone, and how few its points are. */
function FineRule() {
  const rule = useRideRule();
  if (!rule) return null;
  return (
    <FineValues values={FINE} rule={rule} set={(name, value) => setRideRule({ [name]: value })}>
      <Button size="compact-xs" variant="default" onClick={() => setRideRule(null)}>
        as it comes
      </Button>
    </FineValues>
  );
}

/** The trim of the whole track: heard while it is dragged, kept when it is let go; its switch keeps it for later. */
function TrimRow({ trim, canFold }: { trim: Track["trim"]; canFold: boolean }) {
  const { held, hold, keep } = useHeld<number>(setTrim);
  const shown = held ?? trim.offset;
  const isOff = trim.off;
  return (
    <div className="slider-row trim-row">
      <div className="slider-head">
        <Switch
          size="xs"
          label="Trim of the whole track"
          checked={!isOff}
          disabled={!canFold}
          onChange={(event) => switchTrim(event.currentTarget.checked)}
        />
        <span className="mono">{isOff ? "off" : db(shown)}</span>
      </div>
      <div className="kind-slider">
        <Slider
          flex={1}
          size={3}
          thumbSize={14}
          label={null}
          thumbLabel="Trim of the whole track"
          min={-12}
          max={12}
          step={0.5}
          disabled={isOff}
          value={shown}
          onChange={(next) => {
            hold(next);
            hearTrim(next);
          }}
          onChangeEnd={(next) => void keep(next)}
        />
        <Button size="compact-xs" variant="default" disabled={!canFold || isOff} onClick={foldTrim}>
          fold into the ride
        </Button>
      </div>
    </div>
  );
}
