/** The pass that lies over the lane: how it would be written, heard or not, kept or dropped. */
import { ActionIcon, Button, Switch, Tooltip } from "@mantine/core";
import { IconPlayerPlay } from "@tabler/icons-react";
import type { Pass } from "../api/client";
import { dropPass, keepPass, otherHeard, playPass, setHow } from "../model/passes/passes";
import { useRiding } from "../model/passes/riding";
import { LANE_NAMES } from "../model/view/view";
import { clock } from "../parts/format";
import { Roving } from "../parts/roving";
import { KeptRow } from "../parts/SliderRow";
import { PassTimes, useHow } from "./PassTimes";

export function PassInspector({ pass }: { pass: Pass }) {
  const { draft, heard } = useRiding();
  const how = useHow();
  const lane = LANE_NAMES[pass.lane];
  return (
    <div className="inspector pass-inspector" data-testid="pass">
      <div className="inspector-head">
        <strong>Pass {pass.number}</strong>
        <span className="mono dim">
          {clock(pass.start)} to {clock(pass.end)}
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
        onChange={otherHeard}
      />
      <KeptRow
        name="Points may stray"
        title={draft ? `${draft.points.length} points, which may stray by` : undefined}
        value={how.error}
        low={0.05}
        high={2}
        step={0.05}
        unit="dB"
        digits={2}
        save={(error) => setHow({ error })}
      />
      {pass.elsewhere && (
        <p className="note" role="status">
          The {lane} was changed since this pass; it lies over it as it is now.
        </p>
      )}
      <PassTimes />
      <Switch
        size="xs"
        label="Snap its moves to phrases"
        checked={how.snap}
        onChange={(event) => setHow({ snap: event.currentTarget.checked })}
      />
      <Roving name="What to do" className="inspector-keys">
        <Button size="xs" flex={1} onClick={() => void keepPass()}>
          {pass.state === "kept" ? "Keep again" : "Keep"}
          <kbd>D</kbd>
        </Button>
        <Button size="xs" variant="default" onClick={() => void dropPass()}>
          {pass.state === "kept" ? "Forget it" : "Discard"}
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
      </Roving>
    </div>
  );
}
