/** The worklist of the stage Ride: the spans that stray inside their phrases, and what is selected to be worked on. */
import { ActionIcon, NativeSelect, Tooltip, VisuallyHidden } from "@mantine/core";
import { IconVolumeOff, IconX } from "@tabler/icons-react";
import { useMemo, useState } from "react";
import type { Clip, LanePoint } from "../api/client";
import { deleteDrawn, liftSpan, movePoints, movePointTo, scaleSpan, setPoints } from "../model/hand/ride";
import { laneOffset, useInside, useLanes, useRide } from "../model/hand/rideState";
import { goToStray, isSpan, strayList } from "../model/hand/strays";
import { usePasses } from "../model/passes/passes";
import { useRiding } from "../model/passes/riding";
import { reasonWords, trackOf, useSession } from "../model/server/session";
import { isSilent, LANE_NAMES, SILENCE, type Span, useView } from "../model/view/view";
import { ExactField } from "../parts/ExactField";
import { clock, signed, time } from "../parts/format";
import { Roving } from "../parts/roving";
import { px } from "../parts/step";
import { useRows } from "../parts/useRows";
import { Vial } from "../parts/Vial";
import { OrderSwitch } from "./OrderSwitch";
import { PassInspector } from "./PassInspector";

const ROW = px(30);
const NO_CLIPS: Clip[] = [];
const NO_POINTS: LanePoint[] = [];

export function RideList() {
  const focus = useView((s) => s.focus);
  const order = useView((s) => s.order);
  const span = useView((s) => s.span);
  const lane = useView((s) => s.lane);
  const points = useView((s) => s.points);
  const track = useSession((s) => trackOf(s, focus));
  const clips = useSession((s) => s.clips[track?.id ?? ""]) ?? NO_CLIPS;
  const tolerance = useSession((s) => s.header?.rule.tolerance ?? 1.5);
  const { draft } = useRide();
  const ride = useLanes();
  const inside = useInside();
  const items = useMemo(() => strayList(inside, draft, clips, order), [inside, draft, clips, order]);
  const first = items.findIndex((item) => isSpan(span, item.span));
  const { box, rows } = useRows(items.length, ROW, first);
  const all = ride?.[lane] ?? NO_POINTS;
  const passes = usePasses();
  const pass = useRiding((s) => passes.find((one) => one.id === s.chosen));
  const chosen = useMemo(() => all.filter((point) => points.has(point.id)), [all, points]);
  return (
    <section className="worklist" aria-label="Worklist">
      <Roving name="What is listed" className="panel-head">
        <h2>
          Strays <span className="dim">{inside ? items.length : ""}</span>
        </h2>
        <OrderSwitch worst="furthest first" />
      </Roving>
      <div className="rows" ref={box}>
        {inside && items.length === 0 && <p className="note rows-note">Nothing strays inside the phrases.</p>}
        <div style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((row) => {
            const item = items[row.index]!;
            const { clip, deviation, drafted, reason } = item;
            const words = clip.label || `Phrase at ${time(clip.phrase_start ?? clip.start)}`;
            return (
              <button
                type="button"
                key={item.id}
                className="row"
                data-stray={item.id}
                data-state={deviation > 0 ? "loud" : "quiet"}
                aria-pressed={isSpan(span, item.span)}
                style={{ transform: `translateY(${row.start}px)` }}
                onClick={() => goToStray(item, false)}
                onDoubleClick={() => goToStray(item)}
              >
                <Vial deviation={deviation} tolerance={tolerance} width={44} />
                <span className="row-time mono">{clock(item.span.start)}</span>
                <span className="row-words">{words}</span>
                {drafted === null ? (
                  <span className="row-value mono">{signed(deviation)}</span>
                ) : (
                  <Tooltip label={reasonWords("ride_reasons", reason ?? "")} openDelay={300}>
                    <span className="row-draft mono">
                      {signed(deviation)} → {signed(drafted)}
                    </span>
                  </Tooltip>
                )}
                <VisuallyHidden>{`${time(item.span.start)}, ${signed(deviation)} LU from its phrase`}</VisuallyHidden>
              </button>
            );
          })}
        </div>
      </div>
      {pass && <PassInspector key={pass.id} pass={pass} />}
      {!pass && chosen.length > 0 && <PointInspector key={chosen.map((point) => point.id).join()} chosen={chosen} />}
      {!pass && chosen.length === 0 && span && (
        <SpanInspector key={`${span.start}:${span.end}`} span={span} drawn={all} />
      )}
    </section>
  );
}

function PointInspector({ chosen }: { chosen: LanePoint[] }) {
  const ids = chosen.map((point) => point.id);
  const [first] = chosen;
  const offset = laneOffset();
  const same = chosen.every((point) => point.db === first!.db);
  const shape = chosen.every((point) => point.shape === first!.shape) ? first!.shape : "";
  const silent = same && isSilent(first!.db);
  return (
    <div className="inspector" data-testid="inspector">
      <div className="inspector-head">
        <strong>{ids.length === 1 ? "Point" : `${ids.length} points`}</strong>
        <span className="mono dim">{silent ? "silence" : time(first!.at)}</span>
        <Roving name="Points" className="push inspector-tools">
          <Tooltip label="Silence">
            <ActionIcon
              size="sm"
              variant="default"
              aria-label="Silence"
              onClick={() => void setPoints(ids, { to: SILENCE })}
            >
              <IconVolumeOff size={14} />
            </ActionIcon>
          </Tooltip>
          <Tooltip label="Delete (Backspace)">
            <ActionIcon size="sm" variant="default" aria-label="Delete" onClick={() => void deleteDrawn()}>
              <IconX size={14} />
            </ActionIcon>
          </Tooltip>
        </Roving>
      </div>
      <div className="inspector-fields">
        <ExactField
          name="Gain"
          now={same && !silent ? first!.db + offset : null}
          low={-60}
          high={24}
          unit="dB"
          keep={(to) => void setPoints(ids, { to: to - offset })}
        />
        {ids.length === 1 ? (
          <ExactField
            name="Time"
            now={first!.at}
            low={0}
            high={1e6}
            step={0.01}
            digits={3}
            unit="s"
            keep={(to) => void movePointTo(first!.id, to)}
          />
        ) : (
          <ExactField
            name="Shift in time by"
            now={0}
            low={-1e4}
            high={1e4}
            step={10}
            digits={0}
            unit="ms"
            keep={(ms) => void movePoints(ids, ms / 1000, 0)}
          />
        )}
        <NativeSelect
          size="xs"
          aria-label="Shape to the next point"
          value={shape}
          onChange={(event) => void setPoints(ids, { shape: event.currentTarget.value as "linear" })}
          data={[
            ...(shape === "" ? [{ value: "", label: "several shapes" }] : []),
            { value: "linear", label: "straight" },
            { value: "smooth", label: "smooth" },
            { value: "hold", label: "hold" },
          ]}
        />
      </div>
    </div>
  );
}

function SpanInspector({ span, drawn }: { span: Span; drawn: LanePoint[] }) {
  const lane = useView((s) => s.lane);
  const inside = drawn.filter((point) => point.at >= span.start && point.at <= span.end && !isSilent(point.db));
  const values = inside.map((point) => point.db);
  const middle = values.length ? (Math.min(...values) + Math.max(...values)) / 2 : 0;
  return (
    <div className="inspector" data-testid="inspector">
      <div className="inspector-head">
        <strong>Span</strong>
        <span className="mono">
          {time(span.start)} … {time(span.end)}
        </span>
        <Tooltip label="Clear what is drawn in it (Backspace)">
          <ActionIcon
            className="push"
            size="sm"
            variant="default"
            aria-label="Clear the span"
            disabled={drawn.length === 0}
            onClick={() => void deleteDrawn()}
          >
            <IconX size={14} />
          </ActionIcon>
        </Tooltip>
      </div>
      <div className="inspector-fields inspector-labelled">
        <ExactField
          label="lift"
          name={`Lift the ${LANE_NAMES[lane]} by`}
          now={0}
          low={-60}
          high={24}
          unit="dB"
          keep={(by) => void liftSpan(span, by)}
        />

        {inside.length > 0 && <Scale span={span} middle={middle} />}
      </div>
      <p className="note">Or drag it in the gain strip; Up and Down lift by half a dB.</p>
    </div>
  );
}

/** The moves of a span made larger or smaller, around a gain. */
function Scale({ span, middle }: { span: Span; middle: number }) {
  const [around, setAround] = useState(middle);
  return (
    <>
      <ExactField
        label="scale to"
        name="Scale the moves to"
        now={100}
        low={-1000}
        high={1000}
        step={10}
        digits={0}
        unit="%"
        keep={(percent) => scaleSpan(span, percent / 100, around)}
      />

      <ExactField label="around" name="Around" now={around} low={-60} high={24} digits={1} unit="dB" keep={setAround} />
    </>
  );
}
