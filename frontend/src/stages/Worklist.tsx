/** The order of the work: every phrase with its vial, worst first or by time. Long lists only hold the rows in sight. */
import { Tooltip, VisuallyHidden } from "@mantine/core";
import { IconHandStop, IconLock, IconTargetArrow } from "@tabler/icons-react";
import { useMemo } from "react";
import { chooseClip, goTo, worklist } from "../model/hand/worklist";
import { phraseSpan } from "../model/server/focus";
import { reasonWords, trackOf, useSession } from "../model/server/session";
import { useView } from "../model/view/view";
import { distanceUnit, signed, time } from "../parts/format";
import { Roving } from "../parts/roving";
import { px } from "../parts/step";
import { isMore, useRows } from "../parts/useRows";
import { Vial } from "../parts/Vial";
import { describe } from "../picture/Capsules";
import { OrderSwitch } from "./OrderSwitch";

const ROW = px(32);

export function Worklist() {
  const focus = useView((s) => s.focus);
  const order = useView((s) => s.order);
  const selection = useView((s) => s.selection);
  const draft = useView((s) => s.draft);
  const header = useSession((s) => s.header);
  const track = useSession((s) => trackOf(s, focus));
  const clips = useSession((s) => s.clips[track?.id ?? ""]);
  const tolerance = header?.rule.tolerance ?? 1.5;
  const items = useMemo(
    () => worklist(clips ?? [], track?.target ?? 0, tolerance, order),
    [clips, track?.target, tolerance, order],
  );
  const drafted = useMemo(() => new Map(draft?.items.map((item) => [item.clip, item])), [draft]);
  const first = items.findIndex((item) => selection.has(item.clip.id));
  const { box, rows } = useRows(items.length, ROW, first);
  if (!header || !track) return null;
  const unit = header.rule.unit;
  const off = items.filter((item) => !item.level && !item.clip.left_out).length;

  return (
    <section className="worklist" aria-label="Worklist">
      <Roving name="What is listed" className="panel-head">
        <h2>
          Worklist <span className="dim">{off === 0 ? "all level" : `${off} off`}</span>
        </h2>
        <OrderSwitch worst="worst first" />
      </Roving>
      <div className="rows" ref={box}>
        <div style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((row) => {
            const item = items[row.index]!;
            const { clip } = item;
            const proposal = drafted.get(clip.id);
            return (
              <button
                type="button"
                key={clip.id}
                className="row"
                data-clip={clip.id}
                data-state={item.level ? "level" : item.deviation > 0 ? "loud" : "quiet"}
                data-left-out={clip.left_out || undefined}
                aria-pressed={selection.has(clip.id)}
                style={{ transform: `translateY(${row.start}px)` }}
                onClick={(event) => chooseClip(clip, isMore(event))}
                onDoubleClick={() => goTo(clip)}
              >
                <Vial
                  deviation={clip.left_out ? null : item.deviation}
                  tolerance={tolerance}
                  unit={distanceUnit(unit)}
                  width={44}
                />
                <span className="row-words">{clip.label || time(phraseSpan(clip).start)}</span>
                <Flags clip={clip} />
                {proposal ? (
                  <Tooltip label={reasonWords("gain_reasons", proposal.reason)} openDelay={300}>
                    <span className="row-draft mono">
                      {signed(proposal.gain)} dB <em>{SHORT[proposal.reason] ?? proposal.reason}</em>
                    </span>
                  </Tooltip>
                ) : (
                  <span className="row-value mono">{signed(item.deviation)}</span>
                )}
                <VisuallyHidden>{describe(clip, item.number, item.deviation, tolerance, unit)}</VisuallyHidden>
              </button>
            );
          })}
        </div>
      </div>
    </section>
  );
}

/** Reasons that are called otherwise where there is little room for them. */
const SHORT: Record<string, string> = {
  "most up": "upper limit",
  "most down": "lower limit",
  "noise limit": "room tone",
};

function Flags({ clip }: { clip: { locked: boolean; reference: boolean; by_hand: boolean } }) {
  return (
    <span className="row-flags">
      {clip.locked && <IconLock size={13} aria-label="locked" />}
      {clip.reference && <IconTargetArrow size={13} aria-label="reference" />}
      {clip.by_hand && !clip.locked && <IconHandStop size={13} aria-label="set by hand" />}
    </span>
  );
}
