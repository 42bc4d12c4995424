/** The hand: a fader at the right of the picture that rides the lane in hand while it plays, and the passes that it left. */
import { ActionIcon, Button, Menu, SegmentedControl, Tooltip } from "@mantine/core";
import { IconDots, IconPin, IconPinFilled } from "@tabler/icons-react";
import { useCallback, useEffect, useRef } from "react";
import { forgetLearnt, learn, switchMidi, switchStandIn, useControllers, words } from "../model/passes/controllers";
import { choosePass, usePasses } from "../model/passes/passes";
import {
  handLimits,
  handValue,
  letGo,
  MODES,
  type Mode,
  moveTo,
  setMode,
  takeHold,
  toggleArmed,
  useRiding,
} from "../model/passes/riding";
import { selectedSpan } from "../model/server/focus";
import { useSession } from "../model/server/session";
import { isSilent, LANE_NAMES, onRedraw, useView } from "../model/view/view";
import { clock, signed, time } from "../parts/format";
import { useRoving } from "../parts/roving";
import { REST } from "../sound/control";
import { engine } from "../sound/engine";
import { PassTimes } from "./PassTimes";
import "./Hand.css";

const NOTCH = 0.5;

export function Hand() {
  const lane = useView((s) => s.lane);
  return (
    <aside className={`hand hand-${lane}`} aria-label="Hand" ref={useRoving({})}>
      <div className="hand-head">
        <strong>{LANE_NAMES[lane]}</strong>
        <HandMenu />
      </div>
      <Staff />
      <Writing />
      <Passes />
    </aside>
  );
}

/** The fader itself: it shows what is heard of the lane at the play line, and begins from there wherever it is taken. */
function Staff() {
  const field = useRef<HTMLDivElement>(null);
  const knob = useRef<HTMLDivElement>(null);
  const value = useRef<HTMLOutputElement>(null);
  const playing = useView((s) => s.playing);
  const lane = useView((s) => s.lane);
  const waitsAt = useControllers((s) => s.waitsAt);
  const holder = useRiding((s) => s.holder);
  const writing = useRiding((s) => s.writing);
  // the scale is that of the working range, which edits may change
  const low = useSession(() => handLimits().low);
  const high = useSession(() => handLimits().high);
  // where a gain lies on the staff
  const place = useCallback(
    (db: number) => `${Math.min(Math.max((db - low) / (high - low), 0), 1) * 100}%`,
    [low, high],
  );

  useEffect(() => {
    let frame = 0;
    const draw = () => {
      const db = handValue();
      if (knob.current) knob.current.style.bottom = place(db);
      if (value.current) value.current.textContent = isSilent(db) ? "silence" : `${signed(db)} dB`;
      field.current?.setAttribute("aria-valuenow", db.toFixed(1));
      if (playing) frame = requestAnimationFrame(draw);
    };
    draw();
    const stop = onRedraw(() => {
      if (!playing) draw();
    });
    return () => {
      stop();
      cancelAnimationFrame(frame);
    };
  }, [playing, place]);

  const drag = useRef<{ y: number; by: number; pixel: number } | null>(null);
  const wheel = useRef({ by: 0, timer: 0 });

  useEffect(() => {
    const element = field.current!;
    const turn = (event: WheelEvent) => {
      event.preventDefault();
      event.stopPropagation();
      if (!takeHold("wheel")) return;
      const notches = -event.deltaY / (event.deltaMode === 1 ? 3 : 100);
      wheel.current.by += notches * NOTCH * (event.altKey ? 0.2 : 1);
      moveTo("wheel", wheel.current.by);
      window.clearTimeout(wheel.current.timer);
      wheel.current.timer = window.setTimeout(() => {
        wheel.current.by = 0;
        letGo("wheel");
      }, REST);
    };
    element.addEventListener("wheel", turn, { passive: false });
    return () => element.removeEventListener("wheel", turn);
  }, []);

  const ticks = tickMarks(low, high);
  return (
    <>
      <output ref={value} className="hand-value mono" data-testid="hand-value" />
      <div
        ref={field}
        className="hand-staff"
        data-testid="hand"
        data-held={holder !== null}
        data-writing={writing}
        role="slider"
        tabIndex={0}
        aria-label={`Hand on the ${LANE_NAMES[lane]}`}
        aria-orientation="vertical"
        aria-valuemin={low}
        aria-valuemax={high}
        aria-valuenow={0}
        onPointerDown={(event) => {
          if (!takeHold("mouse")) return;
          event.currentTarget.setPointerCapture(event.pointerId);
          // what a pixel means stays, also when a pass comes in below and takes some of the height
          drag.current = { y: event.clientY, by: 0, pixel: (high - low) / event.currentTarget.clientHeight };
        }}
        onPointerMove={(event) => {
          const held = drag.current;
          if (!held) return;
          held.by += (held.y - event.clientY) * held.pixel * (event.altKey ? 0.1 : 1);
          held.y = event.clientY;
          moveTo("mouse", held.by);
        }}
        onPointerUp={(event) => {
          drag.current = null;
          letGo("mouse");
          // Up and Down are the hand's while it plays, and else for what is selected
          event.currentTarget.blur();
        }}
        onLostPointerCapture={() => {
          drag.current = null;
          letGo("mouse");
        }}
      >
        {ticks.map((db) => (
          <span key={db} className="hand-tick mono" data-zero={db === 0} style={{ bottom: place(db) }}>
            {db === 0 ? "0" : signed(db).replace(".0", "")}
          </span>
        ))}
        <div className="hand-rail" />
        {waitsAt !== null && <div className="hand-waits" style={{ bottom: place(waitsAt) }} />}
        <div ref={knob} className="hand-knob" />
      </div>
    </>
  );
}

/** Marks of the scale, some six of them. */
function tickMarks(low: number, high: number): number[] {
  const step = high - low > 50 ? 20 : high - low > 30 ? 10 : 5;
  const marks = [];
  for (let db = Math.ceil(low / step) * step; db <= high; db += step) marks.push(db);
  return marks;
}

const MODE_WORDS: Record<Mode, string> = {
  listen: "Heard while held; nothing is written",
  touch: "Writes while it is held, then glides back",
  latch: "Writes from the first touch until playing stops",
};

/** Whether the hand writes, how, and where. */
function Writing() {
  const { mode, armed, pinned, writing } = useRiding();
  const waitsAt = useControllers((s) => s.waitsAt);
  useView((s) => s.span);
  useView((s) => s.selection);
  const span = selectedSpan();
  const words =
    waitsAt !== null
      ? `The controller stands at ${signed(waitsAt)}: move it past ${signed(handValue())}`
      : writing
        ? "Writing what is heard"
        : !armed
          ? MODE_WORDS[mode] + (mode === "listen" ? "" : ", once armed")
          : `${MODE_WORDS[mode]}${span ? `, from ${clock(span.start)} to ${clock(span.end)}` : ""}`;
  return (
    <div className="hand-writing">
      <SegmentedControl
        size="xs"
        fullWidth
        orientation="vertical"
        aria-label="What the hand does"
        value={mode}
        onChange={(value) => setMode(value as Mode)}
        data={MODES}
      />
      <div className="hand-arm">
        <Button
          size="compact-sm"
          flex={1}
          color={armed ? "copper" : undefined}
          variant={armed ? "filled" : "default"}
          aria-pressed={armed}
          onClick={toggleArmed}
        >
          {armed ? "armed" : "arm"}
          <kbd>H</kbd>
        </Button>
        <Tooltip label={pinned ? "Stays armed after each stop" : "Armed for one round: stay armed after a stop"}>
          <ActionIcon
            size={26}
            variant="default"
            aria-label="Stay armed"
            aria-pressed={pinned}
            onClick={() => useRiding.setState({ pinned: !pinned })}
          >
            {pinned ? <IconPinFilled size={14} /> : <IconPin size={14} />}
          </ActionIcon>
        </Tooltip>
      </div>
      <p className="dim hand-note" role="status">
        {words}.
      </p>
    </div>
  );
}

/** A menu that is closed keeps no key: Space plays. */
const giveKeysBack = () => window.setTimeout(() => (document.activeElement as HTMLElement | null)?.blur(), 50);

/** How what it writes is meant, and what moves it from outside. */
function HandMenu() {
  const { midi, devices, learning, binding, standIn } = useControllers();
  return (
    <Menu position="bottom-end" width={300} closeOnItemClick={false} onClose={giveKeysBack}>
      <Menu.Target>
        <ActionIcon className="push" variant="subtle" size="sm" aria-label="The hand: how it writes and what moves it">
          <IconDots size={16} />
        </ActionIcon>
      </Menu.Target>
      <Menu.Dropdown>
        <Menu.Label>When a pass is written</Menu.Label>
        {/* the keys of a menu would take those of the sliders */}
        <div className="hand-times" onKeyDown={(event) => event.stopPropagation()}>
          <PassTimes />
        </div>
        <Menu.Divider />
        <Menu.Label>
          {midi === "on"
            ? `MIDI: ${devices.length ? devices.join(", ") : "no controller is connected"}`
            : midi === "refused"
              ? "The browser does not allow MIDI here"
              : "A MIDI controller"}
        </Menu.Label>
        <Menu.Item onClick={() => void switchMidi(midi !== "on")}>
          {midi === "on"
            ? "Stop listening to MIDI"
            : midi === "asking"
              ? "Asking the browser …"
              : "Listen to MIDI controllers"}
        </Menu.Item>
        {midi === "on" && (
          <>
            <Menu.Item onClick={() => learn(!learning)}>
              {learning ? "Move the control to use … (cancel)" : "Learn another control"}
            </Menu.Item>
            <Menu.Item onClick={forgetLearnt} disabled={binding.device === null && binding.control === 7}>
              <span className="dim">Follows {words(binding)}</span>
            </Menu.Item>
          </>
        )}
        <Menu.Divider />
        <Menu.Label>Stand-in: a fader in its own window or on another device</Menu.Label>
        <Menu.Item
          onClick={() => {
            switchStandIn(true);
            window.open("/hand", "nivelus-hand", "width=340,height=640");
          }}
        >
          Open the stand-in
        </Menu.Item>
        <Menu.Item onClick={() => switchStandIn(!standIn)}>
          {standIn ? "Stop listening to the stand-in" : "Listen to a stand-in elsewhere"}
        </Menu.Item>
        <Menu.Label>
          On another device: {window.location.host}/hand
          {/^(localhost|127\.|\[::1\])/.test(window.location.host) && ", once the program listens on the network"}
        </Menu.Label>
      </Menu.Dropdown>
    </Menu>
  );
}

function Passes() {
  const passes = usePasses();
  const chosen = useRiding((s) => s.chosen);
  if (passes.length === 0) return null;
  return (
    <div className="hand-passes" role="listbox" aria-label="Passes">
      {passes.map((pass) => (
        <button
          type="button"
          key={pass.id}
          role="option"
          className="hand-pass"
          data-lane={pass.lane}
          data-state={pass.state}
          aria-selected={pass.id === chosen}
          aria-label={`Pass ${pass.number} of the ${LANE_NAMES[pass.lane]}, ${time(pass.start)} to ${time(pass.end)}, ${pass.state === "kept" ? "kept" : "not decided"}`}
          onClick={() => {
            if (pass.id === chosen) void choosePass(null);
            else {
              void choosePass(pass.id);
              if (!engine.playing) engine.seek(pass.start);
            }
          }}
        >
          <span>Pass {pass.number}</span>
          <span className="mono dim">{pass.state === "kept" ? "kept" : time(pass.start).slice(0, -4)}</span>
        </button>
      ))}
    </div>
  );
}
