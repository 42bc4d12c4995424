/** The worklist of the stage Ride: the phrases in which most goes on, and the points that are worked on. */
import { ActionIcon, NativeSelect, NumberInput, Tooltip } from "@mantine/core";
import { IconX } from "@tabler/icons-react";
import { useMemo, useState } from "react";
import type { Clip, RidePoint } from "../api/client";
import { goTo, phraseSpan, reveal, seek } from "../model/actions";
import { deleteDrawn, liftSpan, rideList, setPoints, useRide } from "../model/ride";
import { trackOf, useSession } from "../model/session";
import { useView } from "../model/view";
import { db, time } from "../parts/format";
import { OrderSwitch } from "../parts/OrderSwitch";
import { afterClick, isMore, useRows } from "../parts/useRows";

const ROW = 30;
const NO_CLIPS: Clip[] = [];
const NO_POINTS: RidePoint[] = [];

export function RideList() {
  const focus = useView((s) => s.focus);
  const order = useView((s) => s.order);
  const selection = useView((s) => s.selection);
  const span = useView((s) => s.span);
  const lane = useView((s) => s.lane);
  const points = useView((s) => s.points);
  const track = useSession((s) => trackOf(s, focus));
  const clips = useSession((s) => s.clips[track?.id ?? ""]) ?? NO_CLIPS;
  const { ride, draft } = useRide();
  const items = useMemo(() => rideList(ride, clips, order), [ride, clips, order]);
  const drafted = useMemo(() => new Map(draft?.phrases.map((phrase) => [phrase.clip, phrase])), [draft]);
  const first = items.findIndex((item) => selection.has(item.clip.id));
  const { box, rows } = useRows(items.length, ROW, first);
  const all = ride?.[lane] ?? NO_POINTS;
  const chosen = [...points].flatMap((place) => (all[place] ? [place] : []));
  return (
    <section className="worklist" aria-label="Worklist">
      <div className="panel-head">
        <h2>
          Inside <span className="dim">LU</span>
        </h2>
        <OrderSwitch worst="restless first" />
      </div>
      <div className="rows" ref={box}>
        <div style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((row) => {
            const { clip, before, after } = items[row.index]!;
            const proposal = drafted.get(clip.id);
            const now = proposal && proposal.reason !== "not chosen" ? proposal.after : after;
            const words = clip.label || `Phrase at ${time(clip.phrase_start ?? clip.start)}`;
            return (
              <button
                type="button"
                key={clip.id}
                className="row"
                data-clip={clip.id}
                aria-pressed={selection.has(clip.id)}
                aria-label={`${words}, ${before.toFixed(1)} LU inside, ${now.toFixed(1)} with the ride`}
                style={{ transform: `translateY(${row.start}px)` }}
                onClick={(event) => {
                  const more = isMore(event);
                  const ids = afterClick(selection, clip.id, more);
                  useView.setState({ selection: ids, span: null, points: new Set() });
                  reveal(phraseSpan(clip));
                  if (!more) seek(phraseSpan(clip).start);
                }}
                onDoubleClick={() => goTo(clip)}
              >
                <span className="row-words">{words}</span>
                <Tooltip label={proposal ? reasonWords(proposal.reason) : "Before, and with the ride"} openDelay={300}>
                  <span className={`mono ${proposal ? "row-draft" : ""}`}>
                    {before.toFixed(1)} → {now.toFixed(1)}
                    {proposal && <em> {proposal.reason}</em>}
                  </span>
                </Tooltip>
              </button>
            );
          })}
        </div>
      </div>
      {chosen.length > 0 && <PointInspector key={chosen.join()} places={chosen} points={all} />}
      {chosen.length === 0 && span && <SpanInspector key={`${span.start}:${span.end}`} span={span} lane={lane} />}
    </section>
  );
}

const REASONS: Record<string, string> = {
  evened: "Evened inside",
  steady: "Steady as it is",
  "most up": "Held in places by the most it may go up",
  "most down": "Held in places by the most it may go down",
  "noise limit": "Held in places because the room would get too loud",
  short: "Too short to have an inside",
  "not chosen": "Left as it is",
};

const reasonWords = (reason: string) => REASONS[reason] ?? reason;

function PointInspector({ places, points }: { places: number[]; points: RidePoint[] }) {
  const chosen = places.map((place) => points[place]!);
  const [first] = chosen;
  const same = chosen.every((point) => point.db === first!.db);
  const shape = chosen.every((point) => point.shape === first!.shape) ? first!.shape : "";
  return (
    <div className="inspector" data-testid="inspector">
      <div className="inspector-head">
        <strong>{places.length === 1 ? "Point" : `${places.length} points`}</strong>
        {places.length === 1 && <span className="mono">{time(first!.at)}</span>}
        <Tooltip label="Delete (Backspace)">
          <ActionIcon
            className="push"
            size="sm"
            variant="default"
            aria-label="Delete"
            onClick={() => void deleteDrawn()}
          >
            <IconX size={14} />
          </ActionIcon>
        </Tooltip>
      </div>
      <div className="inspector-fields">
        <Exact
          key={chosen.map((point) => point.db).join()}
          name="Gain"
          now={same ? first!.db : null}
          keep={(to) => void setPoints(places, { to })}
        />
        <NativeSelect
          size="xs"
          aria-label="Way to the next"
          value={shape}
          onChange={(event) => void setPoints(places, { shape: event.currentTarget.value as "linear" })}
          data={[
            ...(shape === "" ? [{ value: "", label: "several ways" }] : []),
            { value: "linear", label: "straight" },
            { value: "smooth", label: "smooth" },
            { value: "hold", label: "hold" },
          ]}
        />
      </div>
    </div>
  );
}

function SpanInspector({ span, lane }: { span: { start: number; end: number }; lane: string }) {
  return (
    <div className="inspector" data-testid="inspector">
      <div className="inspector-head">
        <strong>Span</strong>
        <span className="mono">
          {time(span.start)} … {time(span.end)}
        </span>
      </div>
      <p className="note">Drag it up or down in the gain strip, or press Up and Down. Backspace clears it.</p>
      <div className="inspector-fields">
        <Exact name={`Lift the ${lane} by`} now={0} keep={(by) => void liftSpan(span, by)} />
      </div>
    </div>
  );
}

function Exact({ name, now, keep }: { name: string; now: number | null; keep: (value: number) => void }) {
  const [value, setValue] = useState<string | number>(now === null ? "" : Math.round(now * 100) / 100);
  const commit = () => {
    const number = Number(value);
    if (value === "" || !Number.isFinite(number) || number === now) return;
    setValue(now ?? "");
    keep(Math.min(Math.max(number, -60), 24));
  };
  return (
    <NumberInput
      size="xs"
      aria-label={name}
      value={value}
      onChange={setValue}
      onBlur={commit}
      onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
      placeholder="several"
      suffix=" dB"
      decimalScale={2}
      step={0.5}
      min={-60}
      max={24}
      title={`${name}${now === null ? "" : `, now ${db(now)}`}`}
    />
  );
}
