/** The line at the bottom: playing, the signal path with what each part does here and now, the fader, the live vial. */
import { ActionIcon, Button, SegmentedControl, Tooltip, VisuallyHidden } from "@mantine/core";
import { IconPlayerPlayFilled, IconPlayerStopFilled, IconRepeat } from "@tabler/icons-react";
import { useEffect, useRef, useState, useSyncExternalStore } from "react";
import type { LaneName } from "../api/client";
import { heldAt } from "../model/hand/hold";
import { gainAt, useHeard } from "../model/heard/heard";
import { playOrStop, setBefore, setLayer, setLoop } from "../model/heard/listening";
import { setMatch } from "../model/heard/mix";
import { placeLine } from "../model/heard/place";
import { useFigures } from "../model/server/queries";
import { trackOf, useSession } from "../model/server/session";
import { LAYER_NAMES, type Layer, onRedraw, useView } from "../model/view/view";
import { capital, readTime, signed, time } from "../parts/format";
import { leaveField } from "../parts/leaveField";
import { tell } from "../parts/messages";
import { useRoving } from "../parts/roving";
import { Vial } from "../parts/Vial";
import { engine } from "../sound/engine";
import { Fader } from "../stages/Fader";
import "./Transport.css";

const METER_RATE = 10;
const SILENT = -100;

export function Transport() {
  const playing = useView((s) => s.playing);
  const loop = useView((s) => s.loop);
  const before = useView((s) => s.before);
  const focus = useView((s) => s.focus);
  const stage = useView((s) => s.stage);
  const track = useSession((s) => trackOf(s, focus));
  const several = useSession((s) => (s.header?.tracks.length ?? 0) > 1);
  const roving = useRoving({});
  if (!track) return <footer className="transport" />;
  const isShown = (lane: LaneName) => stage === "ride" || track.lanes.includes(lane);
  return (
    <footer className="transport" ref={roving}>
      <ActionIcon size={38} variant="filled" aria-label={playing ? "Stop" : "Play"} onClick={playOrStop}>
        {playing ? <IconPlayerStopFilled size={18} /> : <IconPlayerPlayFilled size={18} />}
      </ActionIcon>
      <Clock />
      <Tooltip label="Loop the selection (O)">
        <Button
          size="compact-sm"
          variant={loop ? "filled" : "default"}
          leftSection={<IconRepeat size={14} />}
          aria-pressed={loop}
          onClick={() => setLoop(!loop)}
        >
          loop
        </Button>
      </Tooltip>
      <SegmentedControl
        size="xs"
        aria-label="Before or after"
        value={before ? "before" : "after"}
        onChange={(value) => setBefore(value === "before")}
        data={[
          { value: "before", label: "Before" },
          { value: "after", label: "After" },
        ]}
      />
      {several && <AllSwitch />}
      <EqualSwitch track={track.id} />
      <div className="path" role="group" aria-label="Signal path">
        <span className="path-end">recording</span>
        <LayerSwitch layer="clip" />
        {isShown("curve") && <LayerSwitch layer="curve" />}
        <LayerSwitch layer="dips" />
        {isShown("ride") && <LayerSwitch layer="ride" />}
        {isShown("trim") && <LayerSwitch layer="trim" />}
        <div className="path-layer path-fader" key={track.id}>
          <Fader track={track.id} value={track.fader} />
        </div>
        <Guard />
        <span className="path-end">out</span>
      </div>
      <LiveVial />
    </footer>
  );
}

/** Whether Before is heard of the track in focus, or of all. */
function AllSwitch() {
  const all = useView((s) => s.beforeAll);
  return (
    <Tooltip label="Before on all tracks, not only the one in focus (Shift+B)">
      <Button
        size="compact-sm"
        variant={all ? "filled" : "default"}
        aria-pressed={all}
        aria-label="Before on all tracks"
        onClick={() => useView.setState({ beforeAll: !all })}
      >
        all<span className="rest">&nbsp;tracks</span>
      </Button>
    </Tooltip>
  );
}

/**
 * Before and after, equally loud: the louder of the two is turned down by the difference of their integrated loudness, so
 * that louder does not pass for better.
 */
function EqualSwitch({ track }: { track: string }) {
  const equal = useView((s) => s.equal);
  const before = useView((s) => s.before);
  const { data } = useFigures(equal ? track : undefined);
  const [old, now] = [data?.before.integrated ?? null, data?.after.integrated ?? null];
  const louder = equal && old !== null && now !== null ? now - old : 0;
  useEffect(() => {
    setMatch(Math.min(louder, 0), -Math.max(louder, 0));
    return () => setMatch(0, 0);
  }, [louder]);
  const down = before ? Math.min(louder, 0) : -Math.max(louder, 0);
  return (
    <Tooltip label="Hear before and after equally loud (Q); the render is not changed">
      <Button
        size="compact-sm"
        variant={equal ? "filled" : "default"}
        aria-pressed={equal}
        onClick={() => useView.setState({ equal: !equal })}
      >
        equal<span className="rest">&nbsp;loudness</span>
        {equal && <span className="mono equal-by">{signed(down)}</span>}
      </Button>
    </Tooltip>
  );
}

/** Calls for a new rendering at most 20 times a second while playing, and whenever the picture is drawn. */
function usePlayhead(): number {
  const playing = useView((s) => s.playing);
  const [seconds, setSeconds] = useState(() => engine.seconds);
  useEffect(() => {
    const read = () => setSeconds(engine.seconds);
    read();
    const stop = onRedraw(read);
    const timer = playing ? window.setInterval(read, 50) : 0;
    return () => {
      stop();
      window.clearInterval(timer);
    };
  }, [playing]);
  return seconds;
}

/** Where the play line is: a field, to be typed in. */
function Clock() {
  const now = time(usePlayhead());
  const [typed, setTyped] = useState<string | null>(null);
  // what was there when it was opened: who has typed nothing goes nowhere, however far it has played since
  const was = useRef("");
  const keep = () => {
    setTyped(null);
    if (typed === null || typed === was.current) return;
    const at = readTime(typed);
    if (at === null) tell(`“${typed}” is no time. Write 83.5 or 1:23.5.`);
    else placeLine(at);
  };
  return (
    <input
      className="clock mono"
      aria-label="Position"
      title="Where the play line is: type a time, such as 1:23.5"
      value={typed ?? now}
      onFocus={(event) => {
        was.current = now;
        setTyped(now);
        event.currentTarget.select();
      }}
      onChange={(event) => setTyped(event.currentTarget.value)}
      onBlur={keep}
      onKeyDown={(event) => leaveField(event, () => setTyped(null))}
    />
  );
}

/** A layer of the path: its switch, and what it does at the play position. */
function LayerSwitch({ layer }: { layer: Layer }) {
  const on = useView((s) => s.layers[layer]);
  const before = useView((s) => s.before);
  const title = capital(LAYER_NAMES[layer]);
  return (
    <Tooltip label={on ? `${title}: switch it off` : `${title} is off: switch it on`}>
      <button
        type="button"
        className={`path-layer path-${layer}`}
        aria-pressed={on && !before}
        onClick={() => setLayer(layer, !on)}
      >
        <span>
          {LAYER_NAMES[layer]}
          <VisuallyHidden> layer</VisuallyHidden>
        </span>
        <GainHere layer={layer} />
      </button>
    </Tooltip>
  );
}

function GainHere({ layer }: { layer: Layer }) {
  const seconds = usePlayhead();
  const { points, dips, curve, ride, trim } = useHeard();
  const layers = useView((s) => s.layers);
  const track = useSession((s) => trackOf(s, useView.getState().focus));
  const at = seconds * (track?.timeline.sample_rate ?? 48000);
  const others = {
    dips: gainAt(dips, at),
    curve: gainAt(curve, at),
    ride: gainAt(ride, at),
    trim: gainAt(trim, at),
  };
  const sum = gainAt(points, at);
  // layers add in dB, so the clip gain is the sum less the others that are in it; a layer that is off does nothing
  const beyond = (["curve", "dips", "ride", "trim"] as const).reduce(
    (db, name) => db + (layers[name] ? others[name] : 0),
    0,
  );
  // a hand moves it also where the play line stands: only what is another is rendered again
  const held = useSyncExternalStore(onRedraw, () => (track ? heldAt(track.id, layer, engine.seconds) : 0));
  const shown =
    (layer !== "clip" || layers.clip ? held : 0) + (layer !== "clip" ? others[layer] : layers.clip ? sum - beyond : 0);
  return <span className="mono">{shown <= SILENT ? "silent" : signed(shown)}</span>;
}

/** The limiter on the sum: a small mark tells when it had to work. */
function Guard() {
  usePlayhead();
  const worked = performance.now() - engine.limited < 600;
  return (
    <Tooltip label="Guards your ears at −1 dBFS, on the sum of all tracks; it is in no render unless asked for">
      <span className={`path-layer path-guard${worked ? " path-guard-works" : ""}`}>
        <span>limiter</span>
        <span className="mono">{engine.waiting ? "waits" : worked ? "▲ −1.0" : "−1.0"}</span>
      </span>
    </Tooltip>
  );
}

function LiveVial() {
  const seconds = usePlayhead();
  const { meter, trim } = useHeard();
  const focus = useView((s) => s.focus);
  const rate = useSession((s) => trackOf(s, focus)?.timeline.sample_rate ?? 1);
  const isTrimmed = useView((s) => s.layers.trim && !s.before);
  const target = useSession((s) => trackOf(s, focus)?.target ?? 0);
  const heard = useView((s) => !s.before);
  const tolerance = useSession((s) => s.header?.rule.tolerance ?? 1.5);
  const count = meter.length / 2;
  const at = Math.min(Math.floor(seconds * METER_RATE), count - 1);
  const value =
    count === 0 ? null : meter[2 * at + (heard ? 1 : 0)]! - target - (isTrimmed ? gainAt(trim, seconds * rate) : 0);
  // far below the target is a pause, not a voice that is too quiet
  const isVoice = value !== null && value > -24;
  return (
    <div className="live-vial" data-testid="live-vial">
      <Vial deviation={isVoice ? value : null} tolerance={tolerance} width={118} height={26} />
      <span className="mono dim">{isVoice ? `${signed(value)} LU short-term` : "pause"}</span>
    </div>
  );
}
