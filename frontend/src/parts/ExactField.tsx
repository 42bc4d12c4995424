/** A field for an exact number: kept on Enter or when it is left; several different values show as such. */
import { NumberInput } from "@mantine/core";
import { useState } from "react";

interface Props {
  name: string;
  /** Shown above the field, where its unit does not say enough. */
  label?: string;
  /** The value now; null where several differ. */
  now: number | null;
  low: number;
  high: number;
  step?: number;
  digits?: number;
  unit: string;
  /** What was typed as it is meant: a depth is negative, however it is written. */
  mean?: (typed: number) => number;
  keep: (value: number) => void;
}

export function ExactField({
  name,
  label,
  now,
  low,
  high,
  step = 0.5,
  digits = 2,
  unit,
  mean = (typed) => typed,
  keep,
}: Props) {
  const shown = now === null ? "" : Number(now.toFixed(digits));
  // what is being typed stays, whatever becomes of the value meanwhile: an edit may just be answered
  const [typed, setTyped] = useState<string | number | null>(null);
  const commit = () => {
    setTyped(null);
    const number = Number(typed);
    if (typed === null || typed === "" || typed === shown || !Number.isFinite(number)) return;
    keep(Math.min(Math.max(mean(number), low), high));
  };
  return (
    <NumberInput
      size="xs"
      label={label}
      aria-label={name}
      value={typed ?? shown}
      onChange={setTyped}
      onBlur={commit}
      onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
      placeholder="several"
      suffix={` ${unit}`}
      decimalScale={digits}
      step={step}
      min={low}
      max={high}
      title={`${name}${now === null ? ", several now" : `, now ${shown} ${unit}`}`}
    />
  );
}
