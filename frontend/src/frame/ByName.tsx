/** Everything by name: commands, rules, tracks to make takes of, and phrases by their words; and the name of a rule to be kept. */
import { Spotlight } from "@mantine/spotlight";
import type { Command } from "../model/commands/commands";
import { applyRule, askForName, keepRule, stopKeeping, useKeeping, useRules } from "../model/hand/rules";
import { alike, makeTake } from "../model/hand/timeline";
import { show } from "../model/heard/looking";
import { focused, focusedClips, phraseSpan } from "../model/server/focus";
import { useSession } from "../model/server/session";
import { useView } from "../model/view/view";
import { showKey } from "../parts/keyNames";
import { NameDialog } from "../parts/NameDialog";

export function ByName({ table }: { table: Command[] }) {
  const header = useSession((s) => s.header);
  const rules = useRules();
  const keeping = useKeeping((s) => s.name);
  return (
    <>
      <NameDialog title="Keep this rule" action="Keep" name={keeping} onClose={stopKeeping} onName={keepRule} />
      <Spotlight
        shortcut="mod + K"
        nothingFound="Nothing by that name"
        highlightQuery
        scrollable
        maxHeight={420}
        attributes={{ content: { "aria-label": "Everything by name" } }}
        searchProps={{ placeholder: "What to do, or a phrase by its words" }}
        actions={[
          ...table.map((command) => ({
            id: command.id,
            label: command.name,
            description: command.group,
            rightSection: command.keys[0] ? <kbd>{showKey(command.keys[0])}</kbd> : undefined,
            onClick: command.run,
          })),
          ...rules.map((rule) => ({
            id: `rule ${rule.id}`,
            label: `Set the rule ${rule.name}`,
            description: "Rule",
            onClick: () => void applyRule(rule),
          })),
          { id: "keep rule", label: "Keep this rule as …", description: "Rule", onClick: askForName },
          ...alike(header?.tracks ?? [], focused()).map((other) => ({
            id: `take of ${other.id}`,
            label: `Make “${focused()?.name}” a take of “${other.name}”`,
            description: "Lanes",
            onClick: () => makeTake(focused()!.id, other.id),
          })),
          ...focusedClips()
            .filter((clip) => clip.label)
            .map((clip) => ({
              id: clip.id,
              label: clip.label,
              description: "Phrase",
              onClick: () => {
                useView.setState({ selection: new Set([clip.id]), span: null });
                show(phraseSpan(clip), 2);
              },
            })),
        ]}
      />
    </>
  );
}
