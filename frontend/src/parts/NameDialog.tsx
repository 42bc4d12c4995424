/** Asks for a name: of a new session, of a session or a track that gets another one. */
import { Button, Modal, TextInput } from "@mantine/core";
import { useEffect, useState } from "react";

interface Props {
  title: string;
  action: string;
  /** The name to begin with; null while the dialog is closed. */
  name: string | null;
  onClose: () => void;
  /** What is done with it; where it says why not, the dialog says it and stays, with what was typed. */
  onName: (name: string) => Promise<string | undefined> | undefined;
}

export function NameDialog({ title, action, name, onClose, onName }: Props) {
  const [text, setText] = useState("");
  const [busy, setBusy] = useState(false);
  const [why, setWhy] = useState<string>();
  useEffect(() => {
    setText(name ?? "");
    setWhy(undefined);
  }, [name]);
  const clean = text.trim();
  const submit = async () => {
    const done = clean && clean !== name ? onName(clean) : undefined;
    if (!done) return onClose();
    setBusy(true);
    const said = await done;
    setBusy(false);
    setWhy(said);
    if (!said) onClose();
  };
  return (
    <Modal opened={name !== null} onClose={onClose} title={title} size="sm" centered>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (!busy) void submit();
        }}
      >
        <TextInput
          label="Name"
          data-autofocus
          maxLength={120}
          value={text}
          error={why}
          onChange={(event) => {
            setText(event.currentTarget.value);
            setWhy(undefined);
          }}
        />
        <Button type="submit" mt="sm" fullWidth disabled={!clean || busy}>
          {action}
        </Button>
      </form>
    </Modal>
  );
}
