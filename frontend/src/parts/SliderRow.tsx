/** Rows of a rule: a name, its value, and what sets it. */
import { Slider } from "@mantine/core";
import type { ReactNode } from "react";

export function RuleRow({ title, value, children }: { title: string; value: string; children: ReactNode }) {
  return (
    <div className="slider-row">
      <div className="slider-head">
        <span>{title}</span>
        <span className="mono">{value}</span>
      </div>
      {children}
    </div>
  );
}

export interface SliderRowProps {
  name: string;
  /** What is shown, where that is more than its name. */
  title?: string;
  value: number;
  low: number;
  high: number;
  step: number;
  unit: string;
  set: (value: number) => void;
  /** Called when the hand lets go. */
  keep?: (value: number) => void;
  digits?: number;
}

export function SliderRow({ name, title = name, value, low, high, step, unit, set, keep, digits = 1 }: SliderRowProps) {
  return (
    <RuleRow title={title} value={`${value.toFixed(digits).replace("-", "−")} ${unit}`}>
      <Slider
        size={3}
        thumbSize={14}
        label={null}
        thumbLabel={name}
        min={low}
        max={high}
        step={step}
        value={value}
        onChange={set}
        onChangeEnd={keep}
      />
    </RuleRow>
  );
}
