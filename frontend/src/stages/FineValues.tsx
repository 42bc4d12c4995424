/** How a draft moves: the values behind the button beside it. */
import { ActionIcon, Popover, Tooltip } from "@mantine/core";
import { IconAdjustmentsHorizontal } from "@tabler/icons-react";
import type { ReactNode } from "react";
import { rangeOf, useSession } from "../model/server/session";
import { SliderRow } from "../parts/SliderRow";

/** A value of a rule by its name, and how it is shown: times as milliseconds. */
export interface FineValue<Name extends string> {
  name: Name;
  label: string;
  /** The setting that it is, whose range it has. */
  path: string;
  step: number;
  unit: string;
  scale: number;
}

interface Props<Name extends string> {
  values: readonly FineValue<Name>[];
  rule: Record<Name, number>;
  set: (name: Name, value: number) => void;
  children: ReactNode;
}

export function FineValues<Name extends string>({ values, rule, set, children }: Props<Name>) {
  const ranges = useSession((s) => s.terms?.settings);
  return (
    <Popover position="right-start" width={250} withinPortal>
      <Popover.Target>
        <Tooltip label="How it moves">
          <ActionIcon size={30} variant="default" aria-label="How it moves">
            <IconAdjustmentsHorizontal size={16} />
          </ActionIcon>
        </Tooltip>
      </Popover.Target>
      <Popover.Dropdown className="rule fine-rule">
        {values.map(({ name, label, path, scale, ...row }) => (
          <SliderRow
            key={name}
            name={label}
            value={rule[name] * scale}
            digits={scale === 1 ? 1 : 0}
            set={(value) => set(name, value / scale)}
            low={rangeOf(ranges, path).low * scale}
            high={rangeOf(ranges, path).high * scale}
            {...row}
          />
        ))}
        {children}
      </Popover.Dropdown>
    </Popover>
  );
}
