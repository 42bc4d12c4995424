/** A value of a rule, with its name, its unit and a slider. */
import { Slider } from "@mantine/core";

export interface RowProps {
  name: string;
  value: number;
  low: number;
  high: number;
  step: number;
  unit: string;
  set: (value: number) => void;
  digits?: number;
}

export function SliderRow({ name, value, low, high, step, unit, set, digits = 1 }: RowProps) {
  return (
    <div className="slider-row">
      <div className="slider-head">
        <span>{name}</span>
        <span className="mono">
          {value.toFixed(digits).replace("-", "−")} {unit}
        </span>
      </div>
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
      />
    </div>
  );
}
