/** The rule of the stage Ride: which lane is in hand, the draft of a ride, and the trim that lies over it. */
import { ActionIcon, Button, Group, Menu, RangeSlider, SegmentedControl, Slider } from "@mantine/core";
import { IconDots } from "@tabler/icons-react";
import { useRef } from "react";
import { api, type LaneName } from "../api/client";
import {
  acceptRideDraft,
  bringCurveIn,
  changeSpan,
  clearLane,
  dropRideDraft,
  foldTrim,
  makeRideDraft,
  setRideRule,
  setTrim,
  useRide,
} from "../model/ride";
import { trackOf, useSession } from "../model/session";
import { useView } from "../model/view";
import { db } from "../parts/format";
import { useHeld } from "../parts/useHeld";

export function RideRule() {
  const focus = useView((s) => s.focus);
  const lane = useView((s) => s.lane);
  const selection = useView((s) => s.selection);
  const track = useSession((s) => trackOf(s, focus));
  const { ride, draft, rule } = useRide();
  const picker = useRef<HTMLInputElement>(null);
  if (!track) return null;
  const drawn = track.lanes.includes(lane);
  const inside = mean(ride?.phrases.map((phrase) => phrase.after) ?? []);
  const before = mean(ride?.phrases.map((phrase) => phrase.before) ?? []);
  return (
    <section className="rule" aria-label="Rule">
      <div className="panel-head">
        <SegmentedControl
          size="xs"
          aria-label="Lane in hand"
          value={lane}
          onChange={(value) => useView.setState({ lane: value as LaneName, points: new Set() })}
          data={[
            { value: "ride", label: "Ride" },
            { value: "trim", label: "Trim" },
          ]}
        />
        <Menu position="bottom-end" width={230}>
          <Menu.Target>
            <ActionIcon className="push" variant="subtle" size="sm" aria-label={`More about the ${lane}`}>
              <IconDots size={16} />
            </ActionIcon>
          </Menu.Target>
          <Menu.Dropdown>
            <Menu.Item disabled={!drawn} onClick={() => changeSpan("smooth")} rightSection={<kbd>S</kbd>}>
              Smooth
            </Menu.Item>
            <Menu.Item disabled={!drawn} onClick={() => changeSpan("thin")} rightSection={<kbd>T</kbd>}>
              Thin the points
            </Menu.Item>
            <Menu.Item disabled={!drawn} onClick={clearLane}>
              Take the {lane} away
            </Menu.Item>
            <Menu.Divider />
            <Menu.Item onClick={() => picker.current?.click()}>Bring in a curve (CSV, MIDI)</Menu.Item>
            <Menu.Item disabled={!drawn} component="a" href={api.laneFile(track.id, lane, "csv")} download>
              Write it out as CSV
            </Menu.Item>
            <Menu.Item disabled={!drawn} component="a" href={api.laneFile(track.id, lane, "mid")} download>
              Write it out as a MIDI file
            </Menu.Item>
          </Menu.Dropdown>
        </Menu>
      </div>
      <input
        ref={picker}
        type="file"
        hidden
        accept=".csv,.txt,.mid,.midi"
        onChange={(event) => {
          const [file] = event.currentTarget.files ?? [];
          if (file) void bringCurveIn(file);
          event.currentTarget.value = "";
        }}
      />
      <div className="slider-row">
        <div className="slider-head">
          <span>Strength</span>
          <span className="mono">{rule.strength.toFixed(0)} %</span>
        </div>
        <Slider
          size={3}
          thumbSize={14}
          label={null}
          thumbLabel="Strength"
          min={0}
          max={100}
          value={rule.strength}
          onChange={(strength) => setRideRule({ strength })}
        />
      </div>
      <div className="slider-row">
        <div className="slider-head">
          <span>Most down / up</span>
          <span className="mono">
            −{rule.most_down.toFixed(0)} / +{rule.most_up.toFixed(0)} dB
          </span>
        </div>
        <RangeSlider
          size={3}
          thumbSize={14}
          label={null}
          thumbFromLabel="Most down"
          thumbToLabel="Most up"
          min={-15}
          max={15}
          minRange={0}
          step={1}
          value={[-rule.most_down, rule.most_up]}
          onChange={([low, high]) => setRideRule({ most_down: Math.max(-low, 0), most_up: Math.max(high, 0) })}
        />
      </div>
      <div className="rule-foot">
        <Group gap={8} wrap="nowrap">
          {draft ? (
            <>
              <Button size="xs" flex={1} onClick={() => void acceptRideDraft()}>
                Accept the ride<kbd>D</kbd>
              </Button>
              <Button size="xs" variant="default" onClick={dropRideDraft}>
                Drop
              </Button>
            </>
          ) : (
            <Button size="xs" flex={1} onClick={() => void makeRideDraft()}>
              {selection.size ? "Draft a ride for these phrases" : "Draft a ride"}
              <kbd>D</kbd>
            </Button>
          )}
        </Group>
        <p className="note" role="status">
          {draft
            ? `Inside the phrases ${draft.before.toFixed(1)} → ${draft.after.toFixed(1)} LU, with ${draft.points.length} points.`
            : before === null || inside === null
              ? " "
              : `Inside the phrases ${before.toFixed(1)} → ${inside.toFixed(1)} LU.`}
        </p>
      </div>
      <TrimRow key={track.id} value={ride?.offset ?? 0} canFold={track.lanes.includes("trim")} />
    </section>
  );
}

const mean = (values: number[]) => (values.length ? values.reduce((a, b) => a + b, 0) / values.length : null);

function TrimRow({ value, canFold }: { value: number; canFold: boolean }) {
  const { held, hold, keep } = useHeld<number>(setTrim);
  return (
    <div className="slider-row trim-row">
      <div className="slider-head">
        <span>Trim of the whole track</span>
        <span className="mono">{db(held ?? value)}</span>
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
          value={held ?? value}
          onChange={hold}
          onChangeEnd={(next) => void keep(next)}
        />
        <Button size="compact-xs" variant="default" disabled={!canFold} onClick={foldTrim}>
          fold into the ride
        </Button>
      </div>
    </div>
  );
}
