/** Rows of a rule: a name, its value, and what sets it. */
import { Slider } from "@mantine/core";
import type { ReactNode } from "react";
import { useHeld } from "./useHeld";

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

interface KeptRowProps extends Omit<SliderRowProps, "set" | "keep"> {
  save: (value: number) => Promise<unknown>;
  /** What is shown for each one of the value: a thousand for seconds that are shown as milliseconds. */
  scale?: number;
}

/** A value that is shown while the hand moves it, and asked for when it is let go. */
export function KeptRow({ value, save, scale = 1, digits, ...row }: KeptRowProps) {
  const { held, hold, keep } = useHeld<number>((next) => save(next / scale));
  return (
    <SliderRow
      {...row}
      value={held ?? value * scale}
      digits={digits ?? (row.step < 1 ? 1 : 0)}
      set={hold}
      keep={(next) => void keep(next)}
    />
  );
}
