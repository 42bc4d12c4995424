/** Every phrase in sight as a button for keyboard and screen reader; it lies where the drawn capsule lies. */
import { useMemo } from "react";
import type { Clip } from "../api/client";
import { chooseClip } from "../model/hand/worklist";
import { phraseSpan } from "../model/server/focus";
import { trackOf, useSession } from "../model/server/session";
import { useView } from "../model/view/view";
import { db, distanceUnit, time } from "../parts/format";
import { isByKey, useRoving } from "../parts/roving";
import { isMore } from "../parts/useRows";
import { axis, visible } from "./axis";
import { bringNext } from "./neighbours";
import { CAPSULE, capsuleBox, chartScale, levelRange } from "./scene";
import "./Capsules.css";

const MOST_HANDLES = 250;

export function Capsules({ width, height }: { width: number; height: number }) {
  const focus = useView((s) => s.focus);
  const window = useView((s) => s.window);
  const selection = useView((s) => s.selection);
  const all = useSession((s) => s.clips[trackOf(s, focus)?.id ?? ""]);
  const header = useSession((s) => s.header);
  const numbers = useMemo(() => {
    let n = 0;
    return new Map((all ?? []).filter((c) => c.after !== null).map((c) => [c.id, ++n]));
  }, [all]);
  const track = trackOf(useSession.getState(), focus);
  const roving = useRoving({
    chosen: "[aria-pressed=true]",
    // the next one comes into the window
    beyond: (from, way) =>
      bringNext(
        (all ?? []).filter((clip) => clip.after !== null),
        from,
        way,
        phraseSpan,
      ),
  });
  if (!all || !header || !track || width === 0) return null;
  const shown = visible(all, window).filter((clip) => clip.after !== null);
  if (shown.length > MOST_HANDLES) return null;
  const range = levelRange(all, track.target);
  const s = chartScale(range.low, range.high, height);
  const a = axis(window, width);
  const capsules = shown.map((clip) => {
    const { x, w } = capsuleBox(a, clip);
    const stands = clip.after! - track.target;
    return (
      <button
        type="button"
        key={clip.id}
        className="capsule"
        data-clip={clip.id}
        aria-pressed={selection.has(clip.id)}
        aria-label={describe(
          clip,
          numbers.get(clip.id) ?? 0,
          stands - clip.wish,
          header.rule.tolerance,
          header.rule.unit,
        )}
        style={{ left: x - 2, width: w + 4, top: s.y(stands) - CAPSULE / 2 - 3, height: CAPSULE + 6 }}
        onClick={(event) => isByKey(event) && chooseClip(clip, isMore(event))}
      />
    );
  });
  return (
    <div role="group" aria-label="Phrases" ref={roving}>
      {capsules}
    </div>
  );
}

/** A phrase in words, as in "Phrase 12, 0:31.200 to 0:34.900, 3.4 LU below target, gain +2.0 dB". */
export function describe(clip: Clip, number: number, off: number, tolerance: number, unit: string): string {
  const { start, end } = phraseSpan(clip);
  const distance = `${Math.abs(off).toFixed(1)} ${distanceUnit(unit)}`;
  const where = Math.abs(off) <= tolerance + 1e-9 ? "level" : `${distance} ${off > 0 ? "above" : "below"} target`;
  const asked = Math.abs(clip.wish) >= 0.05 && `${db(clip.wish)} asked for`;
  const flags = [asked, clip.locked && "locked", clip.left_out && "left out", clip.reference && "reference"].filter(
    Boolean,
  );
  return [`Phrase ${number}`, `${time(start)} to ${time(end)}`, where, `gain ${db(clip.gain)}`, ...flags].join(", ");
}
