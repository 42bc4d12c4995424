/** The rule of the stage Phrases: a few sliders, the draft, and what it would do. The draft follows the sliders live. */
import { Button, Collapse, RangeSlider, SegmentedControl, Slider, Switch, UnstyledButton } from "@mantine/core";
import { useDisclosure } from "@mantine/hooks";
import { IconChevronDown, IconChevronRight } from "@tabler/icons-react";
import { useEffect } from "react";
import type { Draft, Rule, RuleChange } from "../api/client";
import { acceptDraft, dropDraft, findPhrases, makeDraft, tryRule, turnPeaks } from "../model/hand/gain";
import { reasonWords, trackOf, useSession } from "../model/server/session";
import { useView } from "../model/view/view";
import { distanceUnit, levelUnit, plain, signed } from "../parts/format";
import { Roving } from "../parts/roving";
import { RuleRow } from "../parts/SliderRow";
import { useHeld } from "../parts/useHeld";
import { RuleMenu } from "./RuleMenu";
import { RulePanel } from "./RulePanel";
import { setRule, TargetFields } from "./TargetFields";

const NO_CHANGE: RuleChange = {};

export function PhrasesRule() {
  const rule = useSession((s) => s.header?.rule);
  const ranges = useSession((s) => s.terms?.settings);
  const focus = useView((s) => s.focus);
  const track = useSession((s) => trackOf(s, focus));
  const clips = useSession((s) => s.clips[track?.id ?? ""]);
  const selection = useView((s) => s.selection);
  const draft = useView((s) => s.draft);
  const peaks = useView((s) => s.peaks);
  const [more, { toggle }] = useDisclosure(false);
  const [aims, { toggle: toggleAims }] = useDisclosure(false);
  const { held, hold, keep } = useHeld<RuleChange>(setRule);
  const trial = held ?? NO_CHANGE;
  useEffect(() => tryRule(held ?? undefined), [held]);
  if (!rule || !track || !ranges) return null;
  const shown: Rule = { ...rule, ...(trial as Partial<Rule>) };
  const unit = distanceUnit(rule.unit);
  const chosen = (clips ?? []).filter((clip) => selection.has(clip.id) && clip.after !== null).length;

  const slider = (name: keyof RuleChange & keyof Rule, path: string, title: string, step: number, text: string) => (
    <RuleRow title={title} value={text}>
      <Slider
        size={3}
        thumbSize={14}
        label={null}
        thumbLabel={title}
        min={ranges[path]?.low}
        max={ranges[path]?.high}
        step={step}
        value={shown[name] as number}
        onChange={(value) => hold({ ...trial, [name]: value })}
        onChangeEnd={(value) => void keep({ ...trial, [name]: value })}
      />
    </RuleRow>
  );

  return (
    <RulePanel>
      <div className="panel-head">
        <h2>Even out</h2>
        <UnstyledButton className="link" onClick={toggleAims} aria-expanded={aims}>
          to {plain(track.target)} {levelUnit(rule.unit)}{" "}
          {aims ? <IconChevronDown size={12} /> : <IconChevronRight size={12} />}
        </UnstyledButton>
        <RuleMenu />
      </div>
      <Collapse expanded={aims}>
        <TargetFields />
      </Collapse>
      {slider("tolerance", "target.tolerance", "Tolerance", 0.1, `±${shown.tolerance.toFixed(1)} ${unit}`)}
      {slider("strength", "phrases.strength", "Strength", 1, `${shown.strength.toFixed(0)} %`)}
      <RuleRow title="Overall gain" value={`${signed(draft?.base ?? baseOf(shown, track.base))} dB`}>
        <SegmentedControl
          size="xs"
          fullWidth
          aria-label="Overall gain"
          value={shown.base_kind}
          onChange={(kind) =>
            void keep({
              ...trial,
              base_kind: kind as Rule["base_kind"] & RuleChange["base_kind"],
              // by hand begins where it stood by itself
              ...(kind === "hand" && rule.base_kind === "auto" ? { base: Math.round(track.base * 2) / 2 } : {}),
            })
          }
          data={[
            { value: "auto", label: "automatic" },
            { value: "hand", label: "manual" },
            { value: "none", label: "off" },
          ]}
        />
      </RuleRow>
      {shown.base_kind === "hand" &&
        slider("base", "phrases.base", "Overall gain by hand", 0.5, `${signed(shown.base)} dB`)}
      <RuleRow title="Limits, down / up" value={`−${shown.most_down.toFixed(0)} / +${shown.most_up.toFixed(0)} dB`}>
        <RangeSlider
          size={3}
          thumbSize={14}
          label={null}
          thumbFromLabel="Lower limit"
          thumbToLabel="Upper limit"
          min={-(ranges["phrases.most_down"]?.high ?? 0)}
          max={ranges["phrases.most_up"]?.high}
          minRange={0}
          step={1}
          value={[-shown.most_down, shown.most_up]}
          onChange={([low, high]) => hold({ ...trial, most_down: Math.max(-low, 0), most_up: Math.max(high, 0) })}
          onChangeEnd={([low, high]) =>
            void keep({ ...trial, most_down: Math.max(-low, 0), most_up: Math.max(high, 0) })
          }
        />
      </RuleRow>
      <UnstyledButton className="link" onClick={toggle} aria-expanded={more}>
        {more ? <IconChevronDown size={12} /> : <IconChevronRight size={12} />} ceiling, noise, phrase length, by hand
      </UnstyledButton>
      <Collapse expanded={more}>
        {slider("ceiling", "phrases.ceiling", "True peak ceiling", 0.1, `${plain(shown.ceiling)} dBTP`)}
        {slider("noise_limit", "phrases.noise_limit", "Room no louder than", 1, `${plain(shown.noise_limit, 0)} dBFS`)}
        {slider("longest", "phrases.longest", "Longest phrase", 0.5, `${shown.longest.toFixed(1)} s`)}
        <UnstyledButton className="link" onClick={() => void findPhrases()}>
          Find the phrases again
        </UnstyledButton>
        <Switch
          size="xs"
          mt={8}
          label="Settle phrases when details or a ride move them"
          checked={rule.settle}
          onChange={(event) => void keep({ ...trial, settle: event.currentTarget.checked })}
        />
        <Switch
          size="xs"
          mt={6}
          label="Keep gains set by hand"
          checked={rule.keep_by_hand}
          onChange={(event) => void keep({ ...trial, keep_by_hand: event.currentTarget.checked })}
        />
        <Switch
          size="xs"
          mt={6}
          mb={4}
          label="Count a mono voice as two loudspeakers (+3 LU)"
          checked={rule.mono_as_two}
          onChange={(event) => void keep({ ...trial, mono_as_two: event.currentTarget.checked })}
        />
      </Collapse>
      <div className="rule-foot">
        {draft && draft.by_peaks > 0 && (
          <Switch
            size="xs"
            mb={8}
            label={peakWords(draft)}
            checked={peaks}
            onChange={(event) => turnPeaks(event.currentTarget.checked)}
          />
        )}
        {draft?.freeing != null && (
          <UnstyledButton
            className="link freeing"
            onClick={() => void setRule({ target_kind: "absolute", target: draft.freeing! })}
          >
            With {plain(draft.freeing)} {levelUnit(rule.unit)} every phrase becomes level
          </UnstyledButton>
        )}
        <Roving name="Draft" className="acts">
          {draft ? (
            <>
              <Button size="xs" flex={1} onClick={() => void acceptDraft()}>
                Accept {draft.moves === 1 ? "1 change" : `${draft.moves} changes`}
                <kbd>D</kbd>
              </Button>
              <Button size="xs" variant="default" onClick={dropDraft}>
                Discard
              </Button>
            </>
          ) : (
            <Button size="xs" flex={1} onClick={() => void makeDraft()}>
              {chosen === 0 ? "Draft all phrases" : chosen === 1 ? "Draft 1 phrase" : `Draft ${chosen} phrases`}
              <kbd>D</kbd>
            </Button>
          )}
        </Roving>
        <p className="note" role="status">
          {draft
            ? summary(draft)
            : chosen === 0
              ? "Nothing changes until you accept."
              : "Only the selection is drafted."}
        </p>
      </div>
    </RulePanel>
  );
}

/** What turning short peaks down would do, as in "Turn down the 2 short peaks that hold 1 phrase back (−5.2 dB at most)". */
function peakWords({ peaks, by_peaks, deepest }: Draft): string {
  const what = peaks === 1 ? "the short peak that holds" : `the ${peaks} short peaks that hold`;
  const whom = by_peaks === 1 ? "1 phrase" : `${by_peaks} phrases`;
  return `Turn down ${what} ${whom} back (${plain(deepest)} dB${peaks > 1 ? " at most" : ""})`;
}

/** The base that a rule gives: what was set by hand, none, or what the track tells by itself. */
const baseOf = (rule: Rule, byItself: number) =>
  rule.base_kind === "hand" ? rule.base : rule.base_kind === "none" ? 0 : byItself;

const ORDER = ["to target", "freed", "strength", "level", "most up", "most down", "ceiling", "peaks", "noise limit"];

/** What a draft would do, in one or two short sentences. */
export function summary(draft: Draft): string {
  const reasons = Object.entries(draft.reasons).sort(
    ([a], [b]) => ((ORDER.indexOf(a) + 99) % 99) - ((ORDER.indexOf(b) + 99) % 99),
  );
  const parts = reasons.map(([reason, count]) => `${count} ${short(reason)}`);
  return `${draft.level} of ${draft.count} would be level. ${parts.join(", ")}.`;
}

const SHORT: Record<string, string> = {
  "to target": "reach the target",
  strength: "go part of the way",
  level: "level already",
  ceiling: "limited by the ceiling",
  peaks: "held back by short peaks",
  freed: "freed of their peaks",
  "noise limit": "limited by room tone",
};
const short = (reason: string) => SHORT[reason] ?? reasonWords("gain_reasons", reason).toLowerCase();
