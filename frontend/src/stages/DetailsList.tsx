/** The worklist of the stage Details: what was found, what stands out first or by time, and the one that is worked on. */
import { ActionIcon, Button, NativeSelect, Tooltip, VisuallyHidden } from "@mantine/core";
import { IconAlertTriangle, IconArrowBackUp, IconHandStop, IconHelp, IconRepeatOnce, IconX } from "@tabler/icons-react";
import { useMemo } from "react";
import type { Clip, Mark } from "../api/client";
import {
  changeDepth,
  confirmMarks,
  correctKind,
  goToMark,
  isDoubtful,
  makeOfSpan,
  markList,
  notAMark,
  resetMarks,
  selectMarks,
  silence,
  standsIn,
  toggleKeepOut,
  toggleNotch,
} from "../model/hand/details";
import { seek } from "../model/heard/listening";
import { reveal } from "../model/heard/looking";
import { reasonWords, trackOf, useSession } from "../model/server/session";
import { ALL_KINDS, KIND_ROWS, KINDS, type Kind } from "../model/view/kinds";
import { useView } from "../model/view/view";
import { ExactField } from "../parts/ExactField";
import { clock, db, signed, time } from "../parts/format";
import { Roving } from "../parts/roving";
import { px } from "../parts/step";
import { afterClick, isMore, useRows } from "../parts/useRows";
import { clipIndexAt } from "../picture/axis";
import { MarkSign } from "./MarkSign";
import { OrderSwitch } from "./OrderSwitch";
import "./DetailsList.css";

const ROW = px(30);
const NO_MARKS: Mark[] = [];
const NO_CLIPS: Clip[] = [];

export function DetailsList() {
  const focus = useView((s) => s.focus);
  const order = useView((s) => s.order);
  const chosen = useView((s) => s.marks);
  const kinds = useView((s) => s.kinds);
  const span = useView((s) => s.span);
  const twice = useView((s) => s.twice);
  const track = useSession((s) => trackOf(s, focus));
  const marks = useSession((s) => s.marks[track?.id ?? ""]) ?? NO_MARKS;
  const clips = useSession((s) => s.clips[track?.id ?? ""]) ?? NO_CLIPS;
  const items = useMemo(() => markList(marks, kinds, order), [marks, kinds, order]);
  const first = items.findIndex((mark) => chosen.has(mark.id));
  const { box, rows } = useRows(items.length, ROW, first);
  if (!track) return null;
  return (
    <section className="worklist" aria-label="Worklist">
      <Roving name="What is listed" className="panel-head">
        <Kinds marks={marks} kinds={kinds} />
        <Tooltip label={twice ? "Each is played twice: before, then after" : "Play each twice: before, then after"}>
          <ActionIcon
            size="sm"
            variant={twice ? "filled" : "subtle"}
            aria-label="Play before, then after"
            aria-pressed={twice}
            onClick={() => useView.setState({ twice: !twice })}
          >
            <IconRepeatOnce size={15} />
          </ActionIcon>
        </Tooltip>
        <OrderSwitch worst="loud first" />
      </Roving>
      <div className="rows" ref={box}>
        <div style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((row) => {
            const mark = items[row.index]!;
            return (
              <button
                type="button"
                key={mark.id}
                className="row"
                data-mark={mark.id}
                data-kind={mark.kind}
                data-on={mark.on || undefined}
                aria-pressed={chosen.has(mark.id)}
                style={{ transform: `translateY(${row.start}px)` }}
                onClick={(event) => {
                  const more = isMore(event);
                  const ids = afterClick(chosen, mark.id, more);
                  selectMarks(ids);
                  reveal({ start: mark.start - 0.5, end: mark.end + 0.5 });
                  if (!more) seek(mark.start);
                }}
                onDoubleClick={() => goToMark(mark)}
              >
                <MarkSign kind={mark.kind} />
                <span className="row-time mono">{clock(mark.start)}</span>
                <span className="row-words dim">{wordsAt(clips, mark)}</span>
                <span className="row-flags">
                  {isDoubtful(mark) && <IconHelp size={13} aria-label="in doubt" />}
                  {mark.lisp && <IconAlertTriangle size={13} className="loud" aria-label="may lisp" />}
                  {mark.by_hand && <IconHandStop size={13} aria-label="touched by hand" />}
                </span>
                <span className={`mono ${mark.lisp ? "loud" : mark.on ? "" : "dim"}`}>{outcome(mark)}</span>
                <VisuallyHidden>{describeMark(mark)}</VisuallyHidden>
              </button>
            );
          })}
        </div>
      </div>
      {span && chosen.size === 0 && <MakeOfSpan />}
      {chosen.size > 0 && <Inspector marks={marks.filter((mark) => chosen.has(mark.id))} />}
    </section>
  );
}

/** The kinds, each with its sign and count: a click shows or hides it in list and picture. */
function Kinds({ marks, kinds }: { marks: Mark[]; kinds: Set<string> }) {
  const present = ALL_KINDS.filter((kind) => kind !== "dip" || marks.some((m) => m.kind === "dip"));
  return (
    <div className="kinds" role="group" aria-label="Kinds that are shown">
      {present.map((kind) => (
        <Tooltip key={kind} label={KIND_ROWS[kind].many}>
          <button
            type="button"
            className="kind"
            aria-label={KIND_ROWS[kind].many}
            aria-pressed={kinds.has(kind)}
            onClick={() => {
              const next = new Set(kinds);
              if (!next.delete(kind)) next.add(kind);
              useView.setState({ kinds: next });
            }}
          >
            <MarkSign kind={kind} />
          </button>
        </Tooltip>
      ))}
    </div>
  );
}

function wordsAt(clips: Clip[], mark: Mark): string {
  if (mark.holds.length) return mark.holds.join(", ");
  return clips[clipIndexAt(clips, (mark.start + mark.end) / 2)]?.label ?? "";
}

/** What becomes of a mark, as short as can be. */
function outcome(mark: Mark): string {
  if (mark.keep === "out") return "kept out";
  if (mark.on) return mark.depth < -100 ? "silent" : signed(mark.depth);
  return mark.depth < 0 ? `(${mark.depth < -100 ? "silent" : signed(mark.depth)})` : "0.0";
}

/** A mark in words. */
export function describeMark(mark: Mark): string {
  const stands = (value: number | null) => (value === null ? "unknown" : signed(value));
  const words = [
    KIND_ROWS[mark.kind].one,
    `${time(mark.start)} to ${time(mark.end)}`,
    `${stands(mark.before)} to ${stands(mark.after)} ${standsIn(mark.kind)}`,
    mark.on ? `down by ${db(mark.depth)}` : mark.keep === "out" ? "kept out" : "as it is",
  ];
  return [...words, ...(isDoubtful(mark) ? ["in doubt"] : []), ...(mark.lisp ? ["may lisp"] : []), ...mark.holds].join(
    ", ",
  );
}

/** A span that was drawn by hand can become a dip, or a mark that was not found. */
function MakeOfSpan() {
  return (
    <div className="inspector">
      <div className="inspector-head">
        <strong>Turn this span into</strong>
      </div>
      <Roving name="What to do" className="inspector-keys">
        <Button size="compact-xs" onClick={() => void makeOfSpan("dip")}>
          a dip<kbd>I</kbd>
        </Button>
        <Button size="compact-xs" variant="default" onClick={silence}>
          silence<kbd>Shift X</kbd>
        </Button>
        {KINDS.map((kind) => (
          <Button
            key={kind}
            size="compact-xs"
            variant="default"
            leftSection={<MarkSign kind={kind} />}
            onClick={() => void makeOfSpan(kind)}
          >
            {KIND_ROWS[kind].one.toLowerCase()}
          </Button>
        ))}
      </Roving>
    </div>
  );
}

function Inspector({ marks }: { marks: Mark[] }) {
  const lisp = useSession((s) => s.terms?.lisp);
  const [mark] = marks;
  if (!mark) return null;
  const many = marks.length > 1;
  const kindsHere = new Set(marks.map((m) => m.kind));
  const kind = kindsHere.size === 1 ? mark.kind : "";
  const out = marks.every((m) => m.keep === "out");
  const notch = marks.every((m) => m.notch);
  return (
    <div className="inspector" data-testid="inspector">
      <div className="inspector-head">
        <strong>{many ? `${marks.length} details` : KIND_ROWS[mark.kind].one}</strong>
        {!many && (
          <span className="mono">
            {mark.before === null ? "" : signed(mark.before)} → {mark.after === null ? "" : signed(mark.after)}
          </span>
        )}
        {!many && <span className="dim small">{standsIn(mark.kind)}</span>}
      </div>
      {!many && mark.lisp && (
        <p className="note loud">{`More than ${lisp} dB under its neighbours: it is likely to lisp. Ease it.`}</p>
      )}
      {!many && !mark.lisp && <p className="note">{reasonOf(mark)}</p>}
      <div className="inspector-fields">
        <Depth key={marks.map((m) => m.id).join()} marks={marks} />
        {kind !== "dip" && (
          <NativeSelect
            size="xs"
            aria-label="Kind"
            value={kind}
            onChange={(event) => correctKind(event.currentTarget.value as Kind)}
            data={[
              ...(kind === "" ? [{ value: "", label: "several kinds" }] : []),
              ...KINDS.map((k) => ({ value: k, label: KIND_ROWS[k].one })),
            ]}
          />
        )}
      </div>
      <Roving name="What to do" className="inspector-keys">
        {marks.some(isDoubtful) && (
          <Button size="compact-xs" onClick={confirmMarks}>
            it is a {KIND_ROWS[marks.find(isDoubtful)!.kind].one.toLowerCase()}
            <kbd>N</kbd>
          </Button>
        )}
        <Button size="compact-xs" variant={out ? "filled" : "default"} aria-pressed={out} onClick={toggleKeepOut}>
          {out ? "kept out" : "keep out"}
          <kbd>U</kbd>
        </Button>
        <Button size="compact-xs" variant={notch ? "filled" : "default"} aria-pressed={notch} onClick={toggleNotch}>
          notch<kbd>V</kbd>
        </Button>
        {(kind === "gap" || kind === "dip") && (
          <Button size="compact-xs" variant="default" onClick={silence}>
            silence<kbd>Shift X</kbd>
          </Button>
        )}
        <Tooltip label="Back to the rule (Backspace)">
          <ActionIcon
            size="sm"
            variant="default"
            aria-label="Back to the rule"
            disabled={!marks.some((m) => m.by_hand)}
            onClick={resetMarks}
          >
            <IconArrowBackUp size={14} />
          </ActionIcon>
        </Tooltip>
        <Tooltip label="Not a mark: remove it (X)">
          <ActionIcon size="sm" variant="default" aria-label="Not a mark" onClick={() => void notAMark()}>
            <IconX size={14} />
          </ActionIcon>
        </Tooltip>
      </Roving>
    </div>
  );
}

function reasonOf(mark: Mark): string {
  const reason = `${reasonWords("mark_reasons", mark.reason)}.`;
  if (isDoubtful(mark)) return "In doubt: it may be a word. It stays as it is until you say what it is.";
  if (mark.on || mark.keep === "out" || mark.depth === 0) return reason;
  return `Not turned down; its dip would be ${db(mark.depth)}. ${reason}`;
}

function Depth({ marks }: { marks: Mark[] }) {
  const same = marks.every((mark) => mark.depth === marks[0]!.depth && mark.on === marks[0]!.on);
  return (
    <ExactField
      name="Depth"
      now={same ? (marks[0]!.on ? Math.max(marks[0]!.depth, -60) : 0) : null}
      low={-60}
      high={0}
      digits={1}
      unit="dB"
      mean={(typed) => -Math.abs(typed)}
      keep={(to) => void changeDepth(marks, { to })}
    />
  );
}
