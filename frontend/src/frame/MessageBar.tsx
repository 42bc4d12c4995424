/** One line under the picture: the newest act or what could not be done, and what is being waited for. */
import { ActionIcon, Button, Loader } from "@mantine/core";
import { IconX } from "@tabler/icons-react";
import { useState } from "react";
import { commandCalled } from "../model/commands/commands";
import { showKey } from "../parts/keyNames";
import { dismiss, type Message, useMessages } from "../parts/messages";
import { useWaiting } from "../parts/waiting";
import "./MessageBar.css";

/** ``apart`` it lies at the edge of a page that has no picture, and only while there is something to say. */
export function MessageBar({ apart = false }: { apart?: boolean }) {
  const items = useMessages((s) => s.items);
  const isWaiting = useWaiting((s) => s.items.length > 0);
  const newest = items.at(-1);
  if (apart && !newest && !isWaiting) return null;
  return (
    <div className="message-bar" data-apart={apart || undefined}>
      {newest && <Line key={newest.key} message={newest} />}
      {items.length > 1 && <Others items={items.slice(0, -1)} />}
      <span className="message-gap" />
      <Waiting />
    </div>
  );
}

function Line({ message: { key, words, trouble, act, command } }: { message: Message }) {
  const told = command ? commandCalled(command) : undefined;
  return (
    <div className="message" role="alert" data-trouble={trouble || undefined}>
      <span className="message-words" title={words}>
        {words}
      </span>
      {told?.keys[0] && (
        <span className="message-key">
          {told.name} <kbd>{showKey(told.keys[0])}</kbd>
        </span>
      )}
      {act && (
        <Button
          size="compact-xs"
          autoFocus
          onClick={() => {
            dismiss(key);
            act.run();
          }}
        >
          {act.words}
        </Button>
      )}
      <ActionIcon
        size={20}
        variant="subtle"
        color="gray"
        aria-label="Dismiss this message"
        onClick={() => dismiss(key)}
      >
        <IconX size={13} />
      </ActionIcon>
    </div>
  );
}

/** What was told before and is still to be read. */
function Others({ items }: { items: Message[] }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button size="compact-xs" variant="default" aria-expanded={open} onClick={() => setOpen(!open)}>
        {items.length} more
      </Button>
      {open && (
        <div className="messages-before">
          {items.map((message) => (
            <Line key={message.key} message={message} />
          ))}
        </div>
      )}
    </>
  );
}

function Waiting() {
  const items = useWaiting((s) => s.items);
  const first = items[0];
  if (!first) return null;
  return (
    <div className="waiting" role="status" aria-label="At work">
      <Loader size={12} color="gray" />
      <span>
        {first.words} …{items.length > 1 && ` and ${items.length - 1} more`}
      </span>
      {first.stop && (
        <Button size="compact-xs" variant="default" onClick={first.stop}>
          Stop
        </Button>
      )}
    </div>
  );
}
