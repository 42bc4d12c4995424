/** The pass that lies over the lane: how it would be written, heard or not, kept or dropped. */
import { ActionIcon, Button, Switch, Tooltip } from "@mantine/core";
import { IconPlayerPlay } from "@tabler/icons-react";
import { useState } from "react";
import type { Pass } from "../api/client";
import { dropPass, keepPass, playPass, setHeardPass, setHow } from "../model/passes";
import { useRiding } from "../model/riding";
import { LANE_NAMES } from "../model/view";
import { time } from "../parts/format";
import { SliderRow } from "../parts/SliderRow";

export function PassInspector({ pass }: { pass: Pass }) {
  const { draft, heard, how } = useRiding();
  const lane = LANE_NAMES[pass.lane as keyof typeof LANE_NAMES];
  return (
    <div className="inspector pass-inspector" data-testid="pass">
      <div className="inspector-head">
        <strong>Pass {pass.number}</strong>
        <span className="mono dim">
          {time(pass.start).slice(0, -2)} to {time(pass.end).slice(0, -2)}
        </span>
        <span className="push inspector-tools">
          <Tooltip label="Play where it was made">
            <ActionIcon size="sm" variant="default" aria-label="Play where it was made" onClick={() => playPass(pass)}>
              <IconPlayerPlay size={14} />
            </ActionIcon>
          </Tooltip>
        </span>
      </div>
      <Switch
        size="xs"
        label={
          <>
            Hear it, not the {lane} without it <kbd>Y</kbd>
          </>
        }
        checked={heard}
        onChange={(event) => setHeardPass(event.currentTarget.checked)}
      />
      <Held
        name="Points may stray"
        title={draft ? `${draft.points.length} points, which may stray by` : undefined}
        value={how.error}
        low={0.05}
        high={2}
        step={0.05}
        unit="dB"
        digits={2}
        keep={(error) => setHow({ error })}
      />
      {pass.elsewhere && (
        <p className="note" role="status">
          The {lane} was changed since this pass; it lies over it as it is now.
        </p>
      )}
      <Held
        name="Earlier by"
        value={how.lead * 1000}
        low={0}
        high={500}
        step={10}
        unit="ms"
        digits={0}
        keep={(ms) => setHow({ lead: ms / 1000 })}
      />
      <Held
        name="Glides back in"
        value={how.glide * 1000}
        low={0}
        high={2000}
        step={50}
        unit="ms"
        digits={0}
        keep={(ms) => setHow({ glide: ms / 1000 })}
      />
      <Switch
        size="xs"
        label="Pull its moves to the phrases"
        checked={how.snap}
        onChange={(event) => setHow({ snap: event.currentTarget.checked })}
      />
      <div className="inspector-keys">
        <Button size="xs" flex={1} onClick={() => void keepPass()}>
          {pass.state === "kept" ? "Keep again" : "Keep"}
          <kbd>D</kbd>
        </Button>
        <Button size="xs" variant="default" onClick={() => void dropPass()}>
          {pass.state === "kept" ? "Forget it" : "Drop"}
        </Button>
        {draft && draft.phrases.length > 0 && (
          <Tooltip
            label={`The mean in each of ${draft.phrases.length} phrases becomes clip gain, what is left the ride`}
          >
            <Button size="xs" variant="default" onClick={() => void keepPass(true)}>
              as clip gain
            </Button>
          </Tooltip>
        )}
      </div>
    </div>
  );
}

interface HeldProps {
  name: string;
  title?: string;
  value: number;
  low: number;
  high: number;
  step: number;
  unit: string;
  digits: number;
  keep: (value: number) => void;
}

/** A slider that is asked for when the hand lets go. */
function Held({ value, keep, ...rest }: HeldProps) {
  const [held, setHeld] = useState<number | null>(null);
  return (
    <SliderRow
      {...rest}
      value={held ?? value}
      set={setHeld}
      keep={(next) => {
        setHeld(null);
        keep(next);
      }}
    />
  );
}
