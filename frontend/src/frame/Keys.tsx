/** The list of keys. */
import { Modal, Text } from "@mantine/core";
import type { Command } from "../model/commands/commands";
import { useView } from "../model/view/view";
import { showKey } from "../parts/keyNames";
import "./Keys.css";

const HANDS = [
  ["Drag a phrase up or down", "its gain; with all that are selected"],
  ["Alt while dragging", "ten times finer"],
  ["Escape while dragging", "takes it back"],
  ["Double click", "exact gain and words"],
  ["Drag across empty ground", "select"],
  ["Shift / Ctrl click", "select more"],
  ["Wheel, Ctrl+wheel", "scroll, zoom at the pointer"],
  ["Ctrl while moving an edge", "no snapping"],
  ["Drag a dip up or down", "its depth"],
  ["Drag its corners, its ends", "edges, ramps"],
  ["Drag a span in the gain strip", "lifts what is drawn there"],
  ["Drag the edge of a span", "moves it, and its lift"],
  ["Shift+drag in the gain strip", "draws freehand"],
  ["Double click in the ride", "makes a point"],
  ["Drag the hand in Ride, or wheel", "rides while it plays"],
  ["Drag a mark's edge in the ribbon", "corrects it"],
  ["Drag a clip along its lane", "moves it with its gain"],
  ["Drag it up or down", "into another lane"],
  ["Drag the foot of a clip's end", "trims it"],
  ["Tab, then arrows", "into a list, and along it"],
  ["Enter there", "chooses: keys act on it until Escape"],
  ["Drop files on a lane", "there, on that track"],
  ["Shift+wheel over many lanes", "scrolls them"],
] as const;

export function Keys({ table }: { table: Command[] }) {
  const opened = useView((s) => s.help);
  const groups = [...new Set(table.map((command) => command.group))];
  return (
    <Modal
      opened={opened}
      onClose={() => useView.setState({ help: false })}
      title="Keys and hands"
      size={1240}
      centered
    >
      <div className="key-columns">
        {groups.map((group) => (
          <section key={group}>
            <Text fw={700} size="sm" mb={4}>
              {group}
            </Text>
            {table
              .filter((command) => command.group === group && command.keys.length > 0)
              .map((command) => (
                <div className="key-row" key={command.id}>
                  <span>{command.name}</span>
                  <span>
                    {command.keys.map((key) => (
                      <kbd key={key}>{showKey(key)}</kbd>
                    ))}
                  </span>
                </div>
              ))}
          </section>
        ))}
        <section>
          <Text fw={700} size="sm" mb={4}>
            Hand
          </Text>
          {HANDS.map(([what, does]) => (
            <div className="key-row" key={what}>
              <span>{what}</span>
              <span className="dim">{does}</span>
            </div>
          ))}
          <div className="key-row">
            <span>Everything by name</span>
            <kbd>{showKey("Mod+K")}</kbd>
          </div>
        </section>
      </div>
    </Modal>
  );
}
