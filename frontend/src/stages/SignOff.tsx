/** Stage Sign off: is everything in order, and the rendered voice. */
import { Button, NativeSelect, SegmentedControl, Switch, UnstyledButton } from "@mantine/core";
import type { Figures, Track } from "../api/client";
import { type Check, leadTo } from "../model/hand/checks";
import { termsOf } from "../model/hand/details";
import { isHeard } from "../model/heard/mix";
import { hasPhrases } from "../model/server/following";
import { useFigures } from "../model/server/queries";
import { render, useRenders, useUnheard } from "../model/server/renders";
import { trackOf, useSession } from "../model/server/session";
import { useSoundFormats, waysOut } from "../model/server/soundFormats";
import { KIND_ROWS, KINDS, type Kind, listed } from "../model/view/kinds";
import { type Stage, useView } from "../model/view/view";
import { db, distanceUnit, plain, signed } from "../parts/format";
import { useRoving } from "../parts/roving";
import { JobList } from "./JobList";
import { RulePanel } from "./RulePanel";
import "./SignOff.css";

export function SignOffRule() {
  const focus = useView((s) => s.focus);
  const track = useSession((s) => trackOf(s, focus));
  const tracks = useSession((s) => s.header?.tracks) ?? [];
  const { kind, which, withFader, limited, compressed } = useRenders();
  const formats = useSoundFormats();
  const unheard = useUnheard();
  if (!track) return null;
  const count = tracks.length;
  return (
    <RulePanel>
      <div className="panel-head">
        <h2>Render</h2>
      </div>
      {count > 1 && (
        <SegmentedControl
          size="xs"
          fullWidth
          mb={8}
          aria-label="Which tracks"
          value={which}
          onChange={(value) => useRenders.setState({ which: value as typeof which })}
          data={[
            { value: "focus", label: track.name },
            { value: "all", label: `Each of ${count}` },
            { value: "mix", label: "The mix" },
          ]}
        />
      )}
      <NativeSelect
        size="xs"
        label="Format"
        value={kind}
        onChange={(event) => useRenders.setState({ kind: event.currentTarget.value })}
        data={waysOut(formats).map(({ value, label }) => ({ value, label }))}
      />
      {which === "mix" && count > 1 ? (
        <>
          <Switch
            size="xs"
            mt={10}
            label="Limit the mix to −1 dBFS"
            checked={limited}
            onChange={(event) => useRenders.setState({ limited: event.currentTarget.checked })}
          />
          <Switch
            size="xs"
            mt={8}
            label="Run voices through their compressors"
            checked={compressed}
            onChange={(event) => useRenders.setState({ compressed: event.currentTarget.checked })}
          />
          <p className="note">All audible tracks with their faders: what you hear. {silent(tracks)}</p>
        </>
      ) : (
        <>
          <Switch
            size="xs"
            mt={10}
            label={`Include the fader (${db(track.fader)})`}
            checked={withFader}
            onChange={(event) => useRenders.setState({ withFader: event.currentTarget.checked })}
          />
          <p className="note">
            Same length, rate and start stamp as the recording.{" "}
            {withFader ? "The fader is included." : "Pre-fader: the fader stays free."}
          </p>
        </>
      )}
      {unheard && <p className="note unheard">{unheard}</p>}
      <Button size="xs" fullWidth mt={8} onClick={() => void render()}>
        Render<kbd>D</kbd>
      </Button>
      <JobList kind="render" />
    </RulePanel>
  );
}

/** Which tracks are not in the mix, and why. */
function silent(tracks: Track[]): string {
  const names = tracks.filter((track) => !isHeard(track, tracks, false, "")).map((track) => track.name);
  if (names.length === 0) return "";
  const why = tracks.some((track) => track.solo) ? "solo is on" : "muted";
  return `Left out (${why}): ${names.join(", ")}.`;
}

/** What is told of a track that has no phrases, and no room behind them. */
const OF_ALL = new Set(["peak", "Integrated", "Range", "Short-term max", "True peak"]);

/** How many of a kind a figure of it speaks of. */
function hint(kind: Kind): string {
  const { share, against } = termsOf(kind) ?? {};
  if (share === 50) return `The middle one${against === "phrase" ? ", against the level of its phrase" : ""}`;
  return `${share} % stand out less than this`;
}

const HINTS: Record<string, string> = {
  Inside: "Spread of 400 ms loudness inside the phrases",
  Dips: `${listed("and", "many").replace(/^./, (first) => first.toUpperCase())} that are turned down`,
};

export function SignOffList({ goStage }: { goStage: (stage: Stage) => Promise<void> }) {
  const focus = useView((s) => s.focus);
  const track = useSession((s) => trackOf(s, focus));
  const rule = useSession((s) => s.header?.rule);
  const { data } = useFigures(track?.id);
  const roving = useRoving({ axis: "column" });
  if (!track || !rule || !data) return null;
  const { before, after } = data;
  const unit = distanceUnit(rule.unit);
  const loud = (value: number | null, of: string) => (value === null ? "none" : `${plain(value)} ${of}`);
  const rows: [string, (f: Figures) => string][] = [
    ["Level", (f) => `${f.level} of ${f.count}`],
    ["Spread", (f) => `${f.spread.toFixed(1)} ${unit}`],
    ["10-90 %", (f) => `${f.width.toFixed(1)} ${unit}`],
    ["Inside", (f) => `${f.inside.toFixed(1)} LU`],
    ["Integrated", (f) => loud(f.integrated, "LUFS")],
    ["Range", (f) => `${f.loudness_range.toFixed(1)} LU`],
    ["Short-term max", (f) => loud(f.short_term_max, "LUFS")],
    ["True peak", (f) => loud(f.true_peak, "dBTP")],
    ["Room tone", (f) => `${plain(f.room_tone)} dBFS`],
    ...KINDS.filter((kind) => kind in before.stands).map((kind): [string, (f: Figures) => string] => [
      KIND_ROWS[kind].many,
      ({ stands }) => (typeof stands[kind] === "number" ? `${signed(stands[kind])} dB` : "none"),
    ]),
    ["Dips", (f) => `${f.down}`],
  ];
  const hints = { ...HINTS, ...Object.fromEntries(KINDS.map((kind) => [KIND_ROWS[kind].many, hint(kind)])) };
  const checks: [boolean, string, Check][] = [
    [
      after.level === after.count,
      after.level === after.count
        ? "Every phrase is level"
        : after.count - after.level === 1
          ? "1 phrase is off"
          : `${after.count - after.level} phrases are off`,
      "level",
    ],
    [
      after.overs === 0,
      after.overs === 0
        ? "Nothing exceeds the ceiling"
        : `${after.overs} ${after.overs === 1 ? "exceeds" : "exceed"} the ceiling of ${plain(rule.ceiling)} dBTP`,
      "ceiling",
    ],
    [
      (after.true_peak ?? -99) <= 0,
      (after.true_peak ?? -99) <= 0
        ? "True peak is below full scale"
        : "True peak is above full scale: integer formats will clip",
      "peak",
    ],
    [
      after.room_tone <= rule.noise_limit,
      after.room_tone <= rule.noise_limit ? "Room tone is below its limit" : "Room tone exceeds its limit",
      "room",
    ],
    [
      after.lisps === 0,
      after.lisps === 0
        ? "No ess is turned down so far that it lisps"
        : `${after.lisps === 1 ? "1 ess is" : `${after.lisps} esses are`} turned down so far that it may lisp`,
      "lisp",
    ],
  ];
  return (
    <section className="worklist" aria-label="Check list">
      <div className="panel-head">
        <h2>Check list</h2>
      </div>
      <div className="rows static">
        <ul className="checks" ref={roving}>
          {checks
            .filter(([, , check]) => hasPhrases(track) || OF_ALL.has(check))
            .map(([good, text, check]) => (
              <li key={text} className={good ? "level" : "loud"}>
                {good ? "✓" : "!"}{" "}
                {good ? (
                  <span>{text}</span>
                ) : (
                  <UnstyledButton className="link" onClick={() => void leadTo(check, goStage)}>
                    {text}: go there
                  </UnstyledButton>
                )}
              </li>
            ))}
        </ul>
        <table className="figures-table" data-testid="figures-table">
          <thead>
            <tr>
              <th scope="col">{track.name}</th>
              <th scope="col">before</th>
              <th scope="col">after</th>
            </tr>
          </thead>
          <tbody className="mono">
            {rows
              .filter(([name]) => hasPhrases(track) || OF_ALL.has(name))
              .map(([name, show]) => (
                <tr key={name} title={hints[name]}>
                  <th scope="row">{name}</th>
                  <td className="dim">{show(before)}</td>
                  <td>{show(after)}</td>
                </tr>
              ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
