/** The rule of the stage Details: for each kind of mark its sign, count, slider and switch, and what it makes of it. */
import {
  ActionIcon,
  Button,
  Collapse,
  Menu,
  RangeSlider,
  SegmentedControl,
  Slider,
  Switch,
  UnstyledButton,
} from "@mantine/core";
import { useDisclosure } from "@mantine/hooks";
import { IconChevronDown, IconChevronRight, IconDots } from "@tabler/icons-react";
import { useMemo } from "react";
import type { DipRule, Figures, Mark } from "../api/client";
import {
  AGAINST,
  allDown,
  endingTrial,
  findAgain,
  setDipRule,
  switchDipRule,
  termsOf,
  tryDipRule,
} from "../model/hand/details";
import { useFigures } from "../model/server/queries";
import { rangeOf, trackOf, useSession } from "../model/server/session";
import { KIND_ROWS, KINDS, type Kind } from "../model/view/kinds";
import { useView } from "../model/view/view";
import { db, plain, signed } from "../parts/format";
import { Roving } from "../parts/roving";
import { KeptRow, RuleRow } from "../parts/SliderRow";
import { useHeld } from "../parts/useHeld";
import { MarkSign } from "./MarkSign";
import "./DetailsRule.css";
import { RulePanel } from "./RulePanel";

const NO_MARKS: Mark[] = [];

export function DetailsRule() {
  const focus = useView((s) => s.focus);
  const track = useSession((s) => trackOf(s, focus));
  const marks = useSession((s) => s.marks[track?.id ?? ""]) ?? NO_MARKS;
  const { data: figures } = useFigures(track?.id);
  const [limits, { toggle }] = useDisclosure(false);
  if (!track) return null;
  const left = KINDS.some((kind) => !track.rules[kind]!.on && marks.some((mark) => mark.kind === kind));
  return (
    <RulePanel>
      <Roving name="Turn down" className="panel-head">
        <h2>Turn down</h2>
        <UnstyledButton className="link push" onClick={toggle} aria-expanded={limits}>
          limits, gaps {limits ? <IconChevronDown size={12} /> : <IconChevronRight size={12} />}
        </UnstyledButton>
        <Menu position="bottom-end" width={230}>
          <Menu.Target>
            <ActionIcon variant="subtle" size="sm" aria-label="More about details">
              <IconDots size={16} />
            </ActionIcon>
          </Menu.Target>
          <Menu.Dropdown>
            <Menu.Item onClick={() => void findAgain()}>Find the details again</Menu.Item>
          </Menu.Dropdown>
        </Menu>
      </Roving>
      <Collapse expanded={limits}>
        {KINDS.map((kind) => (
          <Limits key={`${track.id}:${kind}`} kind={kind} rule={track.rules[kind]!} />
        ))}
        <GapWays key={track.id} rule={track.rules.gap!} />
      </Collapse>
      <Roving name="Kinds that are turned down" axis="column" items="input[role=switch]">
        {KINDS.map((kind) => (
          <KindRule
            key={`${track.id}:${kind}`}
            kind={kind}
            rule={track.rules[kind]!}
            marks={marks}
            figures={figures}
            shown={kind !== "ess" || track.shows_esses}
          />
        ))}
      </Roving>
      {left && (
        <div className="rule-foot">
          <Button size="xs" fullWidth onClick={() => void allDown()}>
            Turn every kind down
            <kbd>D</kbd>
          </Button>
        </div>
      )}
    </RulePanel>
  );
}

interface KindProps {
  kind: Kind;
  rule: DipRule;
  marks: Mark[];
  figures: { before: Figures; after: Figures } | undefined;
  shown: boolean;
}

function KindRule({ kind, rule, marks, figures, shown }: KindProps) {
  const ranges = useSession((s) => s.terms?.settings);
  const { held, hold, keep } = useHeld<number>(async (value) => {
    const end = endingTrial();
    await setDipRule(kind, { depth: value });
    end();
  });
  const { count, down, lisps } = useMemo(() => {
    const own = marks.filter((mark) => mark.kind === kind);
    return {
      count: own.length,
      down: own.filter((mark) => mark.on).length,
      lisps: own.filter((mark) => mark.lisp).length,
    };
  }, [marks, kind]);
  const depth = held ?? rule.depth;
  const name = KIND_ROWS[kind].many;
  return (
    <div className="kind-rule" data-kind={kind}>
      <div className="slider-head">
        <span className="kind-name">
          <MarkSign kind={kind} />
          {name}
          <span className="dim small">{count === 0 ? "none" : `${down} of ${count} down`}</span>
        </span>
        <Switch size="xs" aria-label={`${name} down`} checked={rule.on} onChange={() => switchDipRule(kind)} />
      </div>
      <div className="kind-slider">
        <Slider
          flex={1}
          size={3}
          thumbSize={14}
          label={null}
          thumbLabel={`${name}: how far down`}
          inverted
          min={rangeOf(ranges, `details.${kind}.depth`).low}
          max={0}
          step={0.5}
          value={depth}
          disabled={count === 0 || (kind === "gap" && rule.silent)}
          onChange={(value) => {
            hold(value);
            tryDipRule(kind, { depth: value });
          }}
          onChangeEnd={(value) => void keep(value)}
        />
        <span className="mono kind-depth">
          {kind === "gap" && rule.silent ? "silence" : depthText(kind, depth, rule)}
        </span>
      </div>
      <p className="note">
        {shown
          ? standing(kind, figures)
          : "This recording holds nothing as high as an ess, so none can be found or turned down."}
        {lisps > 0 && <span className="loud"> {lisps === 1 ? "1 may lisp." : `${lisps} may lisp.`}</span>}
      </p>
    </div>
  );
}

const depthText = (kind: Kind, depth: number, rule: DipRule) =>
  kind === "ess" || (kind === "gap" && rule.even) ? `≤ ${plain(-depth)} dB` : db(depth);

/** How the marks of a kind stand before and after, in one short line. */
export function standing(kind: Kind, figures: { before: Figures; after: Figures } | undefined): string {
  if (!figures) return " ";
  const { before, after } = figures;
  if (kind === "gap") return `${plain(before.room_tone)} → ${plain(after.room_tone)} dBFS room tone`;
  const [was, is] = [before.stands[kind] ?? null, after.stands[kind] ?? null];
  if (was === null || is === null) return "Nothing of this kind.";
  return `${signed(was)} → ${signed(is)} ${AGAINST[termsOf(kind)?.against ?? "nothing"].many}`;
}

const GAP_WAYS = [
  { value: "by", label: "by an amount" },
  { value: "even", label: "to one level" },
  { value: "silent", label: "to silence" },
];

/** How far down gaps go, and how they get there. */
function GapWays({ rule }: { rule: DipRule }) {
  const ranges = useSession((s) => s.terms?.settings);
  const share = (name: "closes" | "opens") => (
    <KeptRow
      name={`Gaps ${name === "closes" ? "close" : "open"} within`}
      title={name === "closes" ? "close within" : "open within"}
      value={rule[name]}
      scale={100}
      low={0}
      high={100 * rangeOf(ranges, `details.gap.${name}`).high}
      step={1}
      unit="%"
      save={(value) => setDipRule("gap", { [name]: value })}
    />
  );
  return (
    <>
      <div className="slider-row">
        <div className="slider-head">
          <span>Gaps go down</span>
        </div>
        <SegmentedControl
          size="xs"
          fullWidth
          aria-label="How gaps go down"
          value={rule.silent ? "silent" : rule.even ? "even" : "by"}
          onChange={(way) => void setDipRule("gap", { silent: way === "silent", even: way === "even" })}
          data={GAP_WAYS}
        />
      </div>
      <div className="gap-times">
        {share("closes")}
        {share("opens")}
      </div>
    </>
  );
}

function Limits({ kind, rule }: { kind: Kind; rule: DipRule }) {
  const ranges = useSession((s) => s.terms?.settings);
  const { held, hold, keep } = useHeld<[number, number]>(([deepest, shallowest]) =>
    setDipRule(kind, { deepest, shallowest }),
  );
  const [low, high] = held ?? [rule.deepest, rule.shallowest];
  return (
    <RuleRow title={`${KIND_ROWS[kind].many} keep to`} value={`${plain(low, 0)} … ${plain(high, 0)} dB`}>
      <RangeSlider
        size={3}
        thumbSize={14}
        label={null}
        thumbFromLabel={`${KIND_ROWS[kind].many}: deepest`}
        thumbToLabel={`${KIND_ROWS[kind].many}: shallowest`}
        min={rangeOf(ranges, `details.${kind}.deepest`).low}
        max={0}
        minRange={0}
        step={1}
        value={[low, high]}
        onChange={hold}
        onChangeEnd={(value) => void keep(value)}
      />
    </RuleRow>
  );
}
