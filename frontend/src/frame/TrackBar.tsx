/** Which track is in focus, and the figures that are always on view. */
import { Tooltip } from "@mantine/core";
import { useFigures } from "../api/queries";
import { isJudged, trackOf, useSession } from "../model/session";
import { useView } from "../model/view";
import { distanceUnit, levelUnit, plain } from "../parts/format";
import { Vial } from "../parts/Vial";

export function TrackBar() {
  const model = useSession();
  const focus = useView((s) => s.focus);
  const track = trackOf(model, focus);
  const { data } = useFigures(track?.id);
  const { header } = model;
  if (!header || !track) return null;
  const { rule } = header;
  const unit = distanceUnit(rule.unit);
  const choose = (id: string) => useView.setState({ focus: id, selection: new Set(), span: null, draft: null });
  return (
    <div className="trackbar">
      <div className="chips" role="tablist" aria-label="Tracks">
        {header.tracks.map((t) => (
          <button
            key={t.id}
            type="button"
            role="tab"
            aria-selected={t.id === track.id}
            className="chip"
            onClick={() => choose(t.id)}
          >
            <Vial
              deviation={worst((model.clips[t.id] ?? []).filter(isJudged).map((c) => c.after! - t.target))}
              tolerance={rule.tolerance}
              width={34}
              height={12}
              unit={unit}
            />
            <span>{t.name}</span>
          </button>
        ))}
      </div>
      <div className="figures mono" data-testid="figures">
        {data && (
          <>
            <Figure name="spread" tip="Standard deviation of the phrases' levels">
              {change(data.before.spread, data.after.spread, unit)}
            </Figure>
            <Figure name="level" tip="Phrases within the tolerance">
              {data.before.level} → {data.after.level} of {data.after.count}
            </Figure>
            <Figure name="room" tip="Room tone with the present gain">
              {plain(data.after.room_tone, 0)} dB
            </Figure>
          </>
        )}
        <Figure name="target" tip={rule.target_kind === "absolute" ? "Set in the rule" : `The ${rule.target_kind}`}>
          {plain(track.target)} {levelUnit(rule.unit)} ±{rule.tolerance.toFixed(1)}
        </Figure>
      </div>
    </div>
  );
}

function Figure({ name, tip, children }: { name: string; tip: string; children: React.ReactNode }) {
  return (
    <Tooltip label={tip}>
      <span className={`figure figure-${name}`}>
        <span className="dim">{name}</span> {children}
      </span>
    </Tooltip>
  );
}

const change = (before: number, after: number, unit: string) => `${before.toFixed(1)} → ${after.toFixed(1)} ${unit}`;

/** The deviation that lies furthest out: the bubble is between the marks only when every phrase is. */
export function worst(deviations: number[]): number | null {
  if (deviations.length === 0) return null;
  return deviations.reduce((a, b) => (Math.abs(b) > Math.abs(a) ? b : a));
}
