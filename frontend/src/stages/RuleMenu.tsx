/** The rules with names: one is set, or the present one is kept; they come from files and go out as files. */
import { Menu, UnstyledButton } from "@mantine/core";
import { IconChevronDown } from "@tabler/icons-react";
import { useRef } from "react";
import { api } from "../api/client";
import { applyRule, askForName, bringInRule, deleteRule, useRules } from "../model/hand/rules";
import { FilePicker } from "../parts/FilePicker";
import "./RuleMenu.css";

export function RuleMenu() {
  const rules = useRules();
  const file = useRef<HTMLInputElement>(null);
  const kept = rules.filter((rule) => !rule.shipped);
  return (
    <>
      <Menu position="bottom-start" width={300}>
        <Menu.Target>
          <UnstyledButton className="link push">
            rules <IconChevronDown size={12} />
          </UnstyledButton>
        </Menu.Target>
        <Menu.Dropdown className="rule-menu">
          <Menu.Label>Set the rule of this session</Menu.Label>
          {rules.map((rule) => (
            <Menu.Item key={rule.id} onClick={() => void applyRule(rule)}>
              {rule.name}
              {rule.words && <span className="rule-words">{rule.words}</span>}
            </Menu.Item>
          ))}
          <Menu.Divider />
          <Menu.Item onClick={askForName}>Keep this rule as …</Menu.Item>
          <Menu.Item onClick={() => file.current?.click()}>Bring in a rule from a file …</Menu.Item>
          <Menu.Sub>
            <Menu.Sub.Target>
              <Menu.Sub.Item>Save a rule as a file</Menu.Sub.Item>
            </Menu.Sub.Target>
            <Menu.Sub.Dropdown>
              {rules.map((rule) => (
                <Menu.Item key={rule.id} component="a" href={api.ruleAddress(rule.id)} download>
                  {rule.name}
                </Menu.Item>
              ))}
            </Menu.Sub.Dropdown>
          </Menu.Sub>
          {kept.length > 0 && (
            <Menu.Sub>
              <Menu.Sub.Target>
                <Menu.Sub.Item>Delete a rule</Menu.Sub.Item>
              </Menu.Sub.Target>
              <Menu.Sub.Dropdown>
                {kept.map((rule) => (
                  <Menu.Item key={rule.id} onClick={() => deleteRule(rule)}>
                    {rule.name}
                  </Menu.Item>
                ))}
              </Menu.Sub.Dropdown>
            </Menu.Sub>
          )}
        </Menu.Dropdown>
      </Menu>
      <FilePicker ref={file} label="Rule file" accept=".toml" onFile={(chosen) => void bringInRule(chosen)} />
    </>
  );
}
