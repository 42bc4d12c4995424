/** The picture: level chart, wave, gain and overview over one time axis, worked directly with the hand. */
import { ActionIcon, useComputedColorScheme } from "@mantine/core";
import { IconChevronDown, IconChevronRight } from "@tabler/icons-react";
import { type ReactNode, type PointerEvent as ReactPointer, useEffect, useRef } from "react";
import { useBalance } from "../model/drafts/balance";
import { setWorkingRange } from "../model/hand/ride";
import { Ways } from "../model/hand/ways";
import { heard, trace } from "../model/heard/heard";
import { duration, focused, focusedClips, focusedMarks } from "../model/server/focus";
import { useLoudest } from "../model/server/following";
import { trackOf, useSession } from "../model/server/session";
import { fitWindow, isSilent, redraw, SILENCE, type Stage, useView, zoomWindow } from "../model/view/view";
import { distanceUnit } from "../parts/format";
import { rove } from "../parts/roving";
import { PALETTES } from "../parts/theme";
import { useBox } from "../parts/useBox";
import { axis, chartRange } from "./axis";
import { Canvas } from "./Canvas";
import { Capsules } from "./Capsules";
import { chartDown, hitCapsule, setHover } from "./chartHands";
import { drawDistance, drawLoad } from "./drawBalance";
import { drawChart } from "./drawChart";
import { drawRibbon, RIBBON } from "./drawMarks";
import { drawGain, drawOverview, drawWave, loudest, type WaveMode } from "./drawStrips";
import { ExactValue } from "./ExactValue";
import { gainDouble, gainDown, gainHover } from "./gainHands";
import { groundDown } from "./groundHands";
import { HandLabel } from "./HandLabel";
import { startDrag } from "./hands";
import { Lanes } from "./Lanes";
import { ribbonDown, ribbonHover } from "./markHands";
import { PlayLine } from "./PlayLine";
import { SnapLine } from "./SnapLine";
import { levelRange, type Scene } from "./scene";
import { overviewDown, waveDown, waveHover } from "./stripHands";
import "./Picture.css";

/** Everything the strips draw from, as it is now. */
function useScene(): () => Scene | null {
  const scheme = useComputedColorScheme("light");
  // biome-ignore lint/correctness/useExhaustiveDependencies: the canvas does not follow the colours by itself
  useEffect(redraw, [scheme]);
  const focus = useView((s) => s.focus);
  const ofFollower = useLoudest(useSession((s) => trackOf(s, focus)));
  // biome-ignore lint/correctness/useExhaustiveDependencies: nor does it follow figures that come
  useEffect(redraw, [ofFollower]);
  return () => {
    const header = useSession.getState().header;
    const track = focused();
    if (!header || !track) return null;
    const view = useView.getState();
    const curve = heard();
    return {
      stage: view.stage,
      clips: focusedClips(),
      marks: focusedMarks(),
      chosen: view.marks,
      kinds: view.kinds,
      track,
      tolerance: header.rule.tolerance,
      window: view.window,
      span: view.span,
      selection: view.selection,
      draft: view.draft,
      trace: trace(),
      points: curve.points,
      loudest: ofFollower || loudest(focusedClips()),
      dips: curve.dips,
      ways: new Ways(focusedClips(), curve.ways, track.timeline.sample_rate),
      lanes: { curve: curve.curve, ride: curve.ride, trim: curve.trim },
      on: view.layers,
      heard: !view.before,
      unit: distanceUnit(header.rule.unit),
      palette: PALETTES[scheme],
    };
  };
}

export function Picture({ stage }: { stage: Stage }) {
  const scene = useScene();
  const heights = useView((s) => s.heights);
  const folded = useView((s) => s.folded);
  const box = useRef<HTMLDivElement>(null);

  useEffect(() => {
    const element = box.current!;
    const wheel = (event: WheelEvent) => {
      event.preventDefault();
      const a = axis(useView.getState().window, element.clientWidth);
      const { window } = useView.getState();
      const x = event.clientX - element.getBoundingClientRect().left;
      const unit = event.deltaMode === 1 ? 16 : 1;
      const rows = (event.target as Element).closest(".lane-rows");
      if (event.shiftKey && rows && rows.scrollHeight > rows.clientHeight) {
        // a wheel that is turned with Shift goes sideways in some browsers
        rows.scrollTop += (event.deltaY || event.deltaX) * unit;
        return;
      }
      if (event.ctrlKey || event.metaKey) {
        const next = zoomWindow(window, Math.exp(event.deltaY * unit * 0.0018), a.seconds(x), duration());
        useView.setState({ window: next });
      } else {
        const by = (event.deltaX || event.deltaY) * unit * a.perPixel;
        useView.setState({ window: fitWindow(window.start + by, window.end + by, duration()) });
      }
    };
    element.addEventListener("wheel", wheel, { passive: false });
    return () => element.removeEventListener("wheel", wheel);
  }, []);
  useEffect(() => rove(box.current!, () => ({ axis: "column", items: ".strip-name > button" })), []);

  const wave = (mode: WaveMode, title: string) => (
    <Strip name={title} height={heights.wave} fold="wave" resize={mode === "overlay" ? "wave" : undefined}>
      <div
        className="strip-body"
        data-testid={`wave-${mode}`}
        onPointerDown={(e) => waveDown(e, mode === "overlay")}
        onPointerMove={waveHover}
      >
        <Canvas draw={(ctx, w, h) => withScene(scene, (s) => drawWave(ctx, w, h, s, mode))} />
      </div>
    </Strip>
  );

  return (
    <div className="picture" ref={box}>
      {stage === "survey" ? (
        <Lanes />
      ) : (
        <div className="strip strip-chart">
          <Chart scene={scene} />
        </div>
      )}
      {stage === "survey" ? null : stage === "signoff" ? (
        <>
          {!folded.wave && wave("before", "before")}
          {wave("after", "after")}
        </>
      ) : stage === "balance" ? (
        <>
          {wave("overlay", "wave, the recording behind it")}
          <BalanceStrip scene={scene} height={heights.balance} />
        </>
      ) : (
        <>
          {wave("overlay", "wave, the recording behind it")}
          <div
            className="strip strip-ribbon"
            data-testid="ribbon"
            style={{ height: RIBBON }}
            onPointerDown={ribbonDown}
            onPointerMove={ribbonHover}
          >
            <Canvas draw={(ctx, w, h) => withScene(scene, (s) => drawRibbon(ctx, w, h, s))} />
          </div>
          <Strip
            name={stage === "ride" ? "gain: what is drawn, and the sum" : "gain: clips, dips and the sum"}
            height={stage === "ride" ? heights.ride : heights.gain}
            fold="gain"
            resize={stage === "ride" ? "ride" : "gain"}
            tools={stage === "ride" ? <WorkingRange /> : undefined}
          >
            <div
              className="strip-body"
              data-testid="gain"
              onPointerDown={gainDown}
              onPointerMove={gainHover}
              onDoubleClick={gainDouble}
            >
              <Canvas draw={(ctx, w, h) => withScene(scene, (s) => drawGain(ctx, w, h, s))} />
            </div>
          </Strip>
        </>
      )}
      <div className="strip strip-overview" data-testid="overview" onPointerDown={overviewDown}>
        <Canvas
          draw={(ctx, w, h) => withScene(scene, (s) => drawOverview(ctx, w, h, s, chartRange(s.clips, s.track.target)))}
        />
      </div>
      <PlayLine />
      <SnapLine />
      <HandLabel />
    </div>
  );
}

function withScene(scene: () => Scene | null, work: (scene: Scene) => void) {
  const now = scene();
  if (now) work(now);
}

/** The distance of voice and bed, or the work of the compressor. */
function BalanceStrip({ scene, height }: { scene: () => Scene | null; height: number }) {
  const leaf = useBalance((s) => s.leaf);
  const name = leaf === "bed" ? "distance: voice above the bed" : "reduction: before as a shadow, after as a line";
  return (
    <Strip name={name} height={height} fold="gain" resize="balance">
      <div className="strip-body" data-testid="balance" onPointerDown={groundDown}>
        <Canvas
          draw={(ctx, w, h) =>
            withScene(scene, (s) => (leaf === "bed" ? drawDistance(ctx, w, h, s) : drawLoad(ctx, w, h, s)))
          }
        />
      </div>
    </Strip>
  );
}

interface StripProps {
  name: string;
  height: number;
  fold: "wave" | "gain";
  resize?: "wave" | "gain" | "ride" | "balance";
  tools?: ReactNode;
  children: ReactNode;
}

/** A strip below the chart: its upper edge can be dragged, and it can be folded away. */
function Strip({ name, height, fold, resize, tools, children }: StripProps) {
  const folded = useView((s) => s.folded[fold]);
  const setHeight = (value: number) => {
    const heights = { ...useView.getState().heights, [resize ?? fold]: Math.min(Math.max(value, 56), 420) };
    useView.setState({ heights });
  };
  const grip = (event: ReactPointer) =>
    startDrag(event.nativeEvent, {
      move: (_, dy) => setHeight(height - dy),
      end: () => {},
      cancel: () => setHeight(height),
    });
  const toggle = () => useView.setState((s) => ({ folded: { ...s.folded, [fold]: !folded } }));
  return (
    <div className="strip" style={folded ? { height: 20, minHeight: 20 } : { height }}>
      {resize && !folded && (
        <div
          className="strip-grip"
          role="separator"
          aria-orientation="horizontal"
          aria-valuenow={height}
          onPointerDown={grip}
        />
      )}
      <div className="strip-name">
        <ActionIcon
          size={16}
          variant="subtle"
          aria-label={folded ? `Unfold ${name}` : `Fold ${name} away`}
          aria-expanded={!folded}
          onClick={toggle}
        >
          {folded ? <IconChevronRight size={12} /> : <IconChevronDown size={12} />}
        </ActionIcon>
        {name}
        {!folded && tools}
      </div>
      {!folded && children}
    </div>
  );
}

const RANGES = [
  [-20, 6],
  [-40, 12],
  [-60, 24],
  [SILENCE, 24],
] as const;

/** Between which gains the hand works on what is drawn. */
function WorkingRange() {
  const focus = useView((s) => s.focus);
  const track = useSession((s) => trackOf(s, focus));
  if (!track) return null;
  const now = [track.range_low, track.range_high] as const;
  const known = RANGES.some(([low, high]) => low === now[0] && high === now[1]);
  const words = ([low, high]: readonly [number, number]) => `${isSilent(low) ? "silence" : `−${-low}`} … +${high} dB`;
  return (
    <label className="strip-tool">
      working range
      <select
        aria-label="Working range"
        value={now.join()}
        onChange={(event) => {
          const [low, high] = event.currentTarget.value.split(",").map(Number);
          event.currentTarget.blur();
          setWorkingRange(low!, high!);
        }}
      >
        {(known ? RANGES : [now, ...RANGES]).map((range) => (
          <option key={range.join()} value={range.join()}>
            {words(range)}
          </option>
        ))}
      </select>
    </label>
  );
}

// --- the level chart

function Chart({ scene }: { scene: () => Scene | null }) {
  const { ref, width, height } = useBox();
  return (
    <div
      className="strip-body"
      data-testid="chart"
      ref={ref}
      onPointerDown={(event) => chartDown(event)}
      onPointerMove={(event) => {
        const hit = hitCapsule(event.currentTarget, event.clientX, event.clientY);
        setHover(hit?.id ?? null);
        event.currentTarget.style.cursor = hit ? "ns-resize" : "";
      }}
      onPointerLeave={() => setHover(null)}
      onDoubleClick={(event) => {
        const hit = hitCapsule(event.currentTarget, event.clientX, event.clientY);
        if (hit) useView.setState({ exact: hit.id, selection: new Set([hit.id]) });
      }}
    >
      <Canvas
        draw={(ctx, w, h) => withScene(scene, (s) => drawChart(ctx, w, h, s, levelRange(s.clips, s.track.target)))}
      />
      <Capsules width={width} height={height} />
      <ExactValue width={width} height={height} />
    </div>
  );
}
