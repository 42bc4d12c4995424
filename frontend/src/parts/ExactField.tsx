/** A field for an exact number: kept on Enter or when it is left, given back with Escape; several different values show as such. */
import { NumberInput } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import { leaveField } from "./leaveField";
import { within } from "./messages";

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
  // while it has the focus it keeps its text, whatever becomes of the value: an edit may just be answered
  const [held, setHeld] = useState<string | number | null>(null);
  const [typed, setTyped] = useState<string | number | null>(null);
  const forget = () => {
    setTyped(null);
    setHeld(null);
  };
  const commit = () => {
    forget();
    const number = Number(typed);
    if (typed === null || typed === "" || typed === shown || !Number.isFinite(number)) return;
    keep(within(mean(number), low, high, unit));
  };
  // what was typed is meant for what the field was opened on, also where it goes with that
  const last = useRef(commit);
  useEffect(() => {
    last.current = commit;
  });
  useEffect(() => () => last.current(), []);
  return (
    <NumberInput
      size="xs"
      label={label}
      aria-label={name}
      value={typed ?? held ?? shown}
      onChange={(value) => (typed !== null || value !== (held ?? shown)) && setTyped(value)}
      onFocusCapture={() => setHeld(shown)}
      onBlur={commit}
      onKeyDown={(event) => leaveField(event, forget)}
      placeholder="several"
      suffix={` ${unit}`}
      decimalScale={digits}
      step={step}
      min={low}
      max={high}
      // what is beyond them is told, not put right in silence
      clampBehavior="none"
      title={`${name}${now === null ? ", several now" : `, now ${shown} ${unit}`}`}
    />
  );
}
