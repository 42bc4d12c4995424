/** The line at the top: name of the session, the stages with their progress, undo and redo. */
import { ActionIcon, Anchor, Menu, Tooltip, useMantineColorScheme } from "@mantine/core";
import { IconArrowBackUp, IconArrowForwardUp, IconDots } from "@tabler/icons-react";
import { useState } from "react";
import { Link } from "react-router";
import { api, type LaneName } from "../api/client";
import { edit, redo, undo } from "../model/server/edits";
import { hasPhrases } from "../model/server/following";
import { useFigures } from "../model/server/queries";
import { isJudged, isLevel, offTarget, trackOf, useSession } from "../model/server/session";
import { LANE_NAMES, STAGE_NAMES, STAGES, type Stage, useView } from "../model/view/view";
import { NameDialog } from "../parts/NameDialog";
import { useRoving } from "../parts/roving";
import { Vial } from "../parts/Vial";
import "./Header.css";

export function Header({ stage, goStage }: { stage: Stage; goStage: (stage: Stage) => void }) {
  const header = useSession((s) => s.header);
  const [renaming, setRenaming] = useState<string | null>(null);
  const progress = useProgress();
  const roving = useRoving({});
  if (!header) return <header className="header" />;
  return (
    <header className="header" ref={roving}>
      <Anchor component={Link} to="/" className="home" underline="never" aria-label="Nivelus, all sessions">
        <Vial deviation={0} tolerance={1.5} width={44} height={18} />
        <strong>Nivelus</strong>
      </Anchor>
      <h1 className="session-name">
        <button type="button" onClick={() => setRenaming(header.name)} title="Rename the session">
          {header.name}
        </button>
      </h1>
      <nav className="stages" aria-label="Stages">
        {STAGES.map((name, i) => (
          <button
            key={name}
            type="button"
            className="stage"
            aria-current={stage === name ? "step" : undefined}
            onClick={() => goStage(name)}
          >
            <span>
              <span className="stage-number">{i + 1}</span> {STAGE_NAMES[name]}
            </span>
            <span className="stage-progress">{progress[name]}</span>
          </button>
        ))}
      </nav>
      <div className="header-tools">
        <Tooltip label={header.undo ? `Undo: ${header.undo}` : "Nothing to undo"}>
          <ActionIcon
            variant="subtle"
            aria-label="Undo"
            data-disabled={!header.undo || undefined}
            onClick={() => void undo()}
          >
            <IconArrowBackUp size={18} />
          </ActionIcon>
        </Tooltip>
        <Tooltip label={header.redo ? `Redo: ${header.redo}` : "Nothing to redo"}>
          <ActionIcon
            variant="subtle"
            aria-label="Redo"
            data-disabled={!header.redo || undefined}
            onClick={() => void redo()}
          >
            <IconArrowForwardUp size={18} />
          </ActionIcon>
        </Tooltip>
        <ViewMenu onRename={() => setRenaming(header.name)} />
      </div>
      <NameDialog
        title="Rename the session"
        action="Rename"
        name={renaming}
        onClose={() => setRenaming(null)}
        onName={(name) => void edit("rename the session", (revision, id) => api.changeSession(id, revision, { name }))}
      />
    </header>
  );
}

export function SchemeItems() {
  const { colorScheme, setColorScheme } = useMantineColorScheme();
  const names = { light: "Day", dark: "Night", auto: "Match the system" } as const;
  return (["light", "dark", "auto"] as const).map((scheme) => (
    <Menu.Item key={scheme} onClick={() => setColorScheme(scheme)} aria-current={colorScheme === scheme || undefined}>
      {colorScheme === scheme ? "✓ " : ""}
      {names[scheme]}
    </Menu.Item>
  ));
}

function ViewMenu({ onRename }: { onRename: () => void }) {
  return (
    <Menu position="bottom-end" width={200}>
      <Menu.Target>
        <ActionIcon variant="subtle" aria-label="More">
          <IconDots size={18} />
        </ActionIcon>
      </Menu.Target>
      <Menu.Dropdown>
        <Menu.Item onClick={() => useView.setState({ help: true })} rightSection="?">
          Keys and hands
        </Menu.Item>
        <Menu.Item onClick={onRename}>Rename the session</Menu.Item>
        <Menu.Divider />
        <SchemeItems />
      </Menu.Dropdown>
    </Menu>
  );
}

/** What stands under the name of each stage. */
function useProgress(): Record<Stage, string> {
  const focus = useView((s) => s.focus);
  const model = useSession();
  const track = trackOf(model, focus);
  const { data: figures } = useFigures(track?.id);
  const clips = (model.clips[track?.id ?? ""] ?? []).filter(isJudged);
  const level = clips.filter((c) => isLevel(offTarget(c, track!.target)!, model.header!.rule.tolerance)).length;
  const marks = model.marks[track?.id ?? ""] ?? [];
  const down = marks.filter((mark) => mark.on).length;
  const beds = model.header?.tracks.filter((one) => one.kind === "bed").length ?? 0;
  const overs = figures?.after.overs ?? 0;
  const isPlain = !hasPhrases(track);
  const none = track?.follows ? "those of its leader" : "a bed has none";
  // without phrases there are none that could pass it: all of it is measured
  const isOver = isPlain && (figures?.after.true_peak ?? -99) > (model.header?.rule.ceiling ?? 0);
  const range = figures ? `range ${figures.before.loudness_range.toFixed(1)} LU` : "range";
  return {
    survey: isPlain ? range : clips.length === 1 ? "1 phrase" : `${clips.length} phrases`,
    phrases: isPlain ? none : `${level} of ${clips.length} level`,
    details: isPlain ? none : `${down} of ${marks.length} down`,
    ride: lanesDrawn(track?.lanes ?? []),
    balance: beds === 0 ? "no bed" : beds === 1 ? "1 bed" : `${beds} beds`,
    signoff: isOver ? "over the ceiling" : overs === 0 ? "below the ceiling" : `${overs} over the ceiling`,
  };
}

/** What is drawn on a track, in a few letters. */
function lanesDrawn(lanes: string[]): string {
  if (lanes.length === 0) return "nothing drawn";
  return lanes.length === 1 ? `${LANE_NAMES[lanes[0] as LaneName]} drawn` : `${lanes.length} lanes drawn`;
}
