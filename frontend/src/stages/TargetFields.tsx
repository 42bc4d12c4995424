/** What a phrase is judged by, and what it should be: shared by Survey, where it is chosen, and Phrases, where it is used. */
import { NativeSelect } from "@mantine/core";
import { api, type RuleChange } from "../api/client";
import { edit } from "../model/server/edits";
import { trackOf, useSession } from "../model/server/session";
import { useView } from "../model/view/view";
import { ExactField } from "../parts/ExactField";
import { levelUnit, plain } from "../parts/format";
import "./TargetFields.css";

/** Keep a change of the rule. */
export const setRule = (rule: RuleChange): Promise<boolean> =>
  edit("change the rule", (revision, id) => api.changeSession(id, revision, { rule }), {
    gesture: `rule ${Object.keys(rule)}`,
  });

const PRESETS = [
  { label: "−23 LUFS, programme", unit: "loudness", target: -23 },
  { label: "−18 dBFS RMS, working level", unit: "rms", target: -18 },
  { label: "−16 LUFS, mobile", unit: "loudness", target: -16 },
] as const;

export function TargetFields() {
  const focus = useView((s) => s.focus);
  const rule = useSession((s) => s.header?.rule);
  const track = useSession((s) => trackOf(s, focus));
  if (!rule) return null;
  const kinds = [
    { value: "absolute", label: "A fixed level" },
    { value: "median", label: "The median" },
    { value: "reference", label: "The references" },
  ];
  return (
    <div className="fields">
      <NativeSelect
        size="xs"
        label="Measured as"
        value={rule.unit}
        onChange={(event) => void setRule({ unit: event.currentTarget.value as "loudness" | "rms" | "peak" })}
        data={[
          { value: "loudness", label: "Loudness (LUFS)" },
          { value: "rms", label: "RMS (dBFS)" },
          { value: "peak", label: "Peak (dBTP)" },
        ]}
      />
      <NativeSelect
        size="xs"
        label="Target"
        value={rule.target_kind}
        onChange={(event) =>
          void setRule({ target_kind: event.currentTarget.value as "absolute" | "median" | "reference" })
        }
        data={kinds}
      />
      {rule.target_kind === "absolute" ? (
        <>
          <ExactField
            name="Target level"
            label="Target level"
            now={rule.target}
            low={-60}
            high={0}
            digits={1}
            unit={levelUnit(rule.unit)}
            keep={(target) => void setRule({ target })}
          />
          <NativeSelect
            size="xs"
            label="Preset"
            value={String(PRESETS.findIndex((p) => p.unit === rule.unit && p.target === rule.target))}
            onChange={(event) => {
              const preset = PRESETS[Number(event.currentTarget.value)];
              if (preset) void setRule({ unit: preset.unit, target: preset.target });
            }}
            data={[
              { value: "-1", label: "Own value" },
              ...PRESETS.map((preset, i) => ({ value: String(i), label: preset.label })),
            ]}
          />
        </>
      ) : (
        <p className="note">
          {rule.target_kind === "median"
            ? `The median before gain: ${plain(track?.target ?? 0)} ${levelUnit(rule.unit)}.`
            : `Mark phrases as reference with R. Their mean as they sound now: ${plain(track?.target ?? 0)} ${levelUnit(rule.unit)}.`}
        </p>
      )}
    </div>
  );
}
