/** Asks for a name: of a new session, of a session or a track that gets another one. */
import { Button, Modal, TextInput } from "@mantine/core";
import { useEffect, useState } from "react";

interface Props {
  title: string;
  action: string;
  /** The name to begin with; null while the dialog is closed. */
  name: string | null;
  onClose: () => void;
  onName: (name: string) => void;
}

export function NameDialog({ title, action, name, onClose, onName }: Props) {
  const [text, setText] = useState("");
  useEffect(() => setText(name ?? ""), [name]);
  const clean = text.trim();
  return (
    <Modal opened={name !== null} onClose={onClose} title={title} size="sm" centered>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          onClose();
          if (clean && clean !== name) onName(clean);
        }}
      >
        <TextInput
          label="Name"
          data-autofocus
          maxLength={120}
          value={text}
          onChange={(event) => setText(event.currentTarget.value)}
        />
        <Button type="submit" mt="sm" fullWidth disabled={!clean}>
          {action}
        </Button>
      </form>
    </Modal>
  );
}
