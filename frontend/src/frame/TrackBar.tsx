/** Which track is in focus, and the figures that are always on view. */
import { Tooltip } from "@mantine/core";
import { isHeard } from "../model/heard/mix";
import { lookAt } from "../model/server/focus";
import { hasPhrases, leaderOf } from "../model/server/following";
import { useFigures } from "../model/server/queries";
import { trackOf, useSession } from "../model/server/session";
import { useView } from "../model/view/view";
import { distanceUnit, levelUnit, plain } from "../parts/format";
import { useRoving } from "../parts/roving";
import { HeardSwitches } from "../picture/HeardSwitches";
import { Fader } from "../stages/Fader";
import { TrackSign } from "../stages/TrackSign";
import "./TrackBar.css";

export function TrackBar() {
  const model = useSession();
  const focus = useView((s) => s.focus);
  const track = trackOf(model, focus);
  const { data } = useFigures(track?.id);
  const { header } = model;
  const alone = useView((s) => s.alone);
  const stage = useView((s) => s.stage);
  const roving = useRoving({});
  if (!header || !track) return null;
  const { rule } = header;
  const unit = distanceUnit(rule.unit);
  const several = header.tracks.length > 1;
  return (
    <div className="trackbar" data-stage={stage} ref={roving}>
      <div className="chips">
        {/* beside each tab lie its switches, which are none */}
        <div role="tablist" aria-label="Tracks" aria-owns={header.tracks.map((t) => `tab-${t.id}`).join(" ")} />
        {header.tracks.map((t) => (
          <div
            key={t.id}
            className="chip"
            data-on={t.id === track.id}
            data-silent={!isHeard(t, header.tracks, alone, track.id)}
          >
            <button
              type="button"
              role="tab"
              id={`tab-${t.id}`}
              aria-selected={t.id === track.id}
              className="chip-name"
              title={t.follows ? `Follows “${leaderOf(header.tracks, t)?.name}”` : undefined}
              onClick={() => lookAt(t.id)}
            >
              <TrackSign track={t} isSmall />
              <span>{t.name}</span>
            </button>
            {several && <HeardSwitches track={t} />}
            {stage === "balance" && (
              <div className="chip-fader">
                <Fader track={t.id} value={t.fader} name="" label={`Fader of ${t.name}`} isSecond />
              </div>
            )}
          </div>
        ))}
      </div>
      {several && (
        <Tooltip label="Hear only the track in focus (J)">
          <button
            type="button"
            className="chip chip-alone"
            aria-pressed={alone}
            onClick={() => useView.setState({ alone: !alone })}
          >
            this track only
          </button>
        </Tooltip>
      )}
      <div className="figures mono" data-testid="figures">
        {data && stage !== "balance" && hasPhrases(track) && (
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
        {data && stage !== "balance" && !hasPhrases(track) && (
          <Figure name="range" tip="Loudness range of the track">
            {change(data.before.loudness_range, data.after.loudness_range, "LU")}
          </Figure>
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
