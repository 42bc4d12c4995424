/** Recordings that belong to no session: what they are, bringing them back, or deleting them for good. */
import { Button, Group, Modal, Text } from "@mantine/core";
import { useState } from "react";
import { queries } from "../api/cache";
import { api, type Loose } from "../api/client";
import { useLoose } from "../model/server/queries";
import { bytes, span } from "../parts/format";
import { complain, tell } from "../parts/messages";
import "./LooseRecordings.css";

const refresh = () => Promise.all(["loose", "cards"].map((key) => queries.invalidateQueries({ queryKey: [key] })));

export function LooseRecordings() {
  const { data: loose } = useLoose();
  const [open, setOpen] = useState(false);
  const [sure, setSure] = useState(false);
  if (!loose?.items.length) return null;
  const hashes = loose.items.map((item) => item.hash);
  const close = () => {
    setOpen(false);
    setSure(false);
  };
  const run = (work: Promise<unknown>, done: string) => {
    close();
    void work
      .then(() => tell(done))
      .catch(complain)
      .finally(() => void refresh());
  };
  const count = hashes.length;
  const text = `${count === 1 ? "1 recording belongs" : `${count} recordings belong`} to no session, ${bytes(loose.size)}`;
  return (
    <section className="loose" aria-label="Recordings without a session">
      <Text size="sm">{text}</Text>
      <Button size="compact-xs" variant="default" onClick={() => setOpen(true)}>
        Look at {count === 1 ? "it" : "them"}
      </Button>
      <Modal opened={open} onClose={close} title={text} size="md" centered>
        <Text size="sm">
          They are kept because nobody deleted them: the database was lost or replaced, or an import was taken back.
        </Text>
        <List items={loose.items} />
        <Group justify="flex-end" mt="md" gap="xs">
          {sure ? (
            <>
              <Text size="sm">Delete {count === 1 ? "it" : `all ${count}`} for good?</Text>
              <Button variant="default" onClick={() => setSure(false)}>
                Keep
              </Button>
              <Button color="copper" onClick={() => run(api.deleteLoose(hashes), "Deleted.")}>
                Delete
              </Button>
            </>
          ) : (
            <>
              <Button variant="default" onClick={() => setSure(true)}>
                Delete…
              </Button>
              <Button onClick={() => run(api.bringBack(hashes), "Being brought back, a session for each.")}>
                Bring back
              </Button>
            </>
          )}
        </Group>
      </Modal>
    </section>
  );
}

function List({ items }: { items: Loose["items"] }) {
  return (
    <ul className="loose-list">
      {items.map((item) => (
        <li key={item.hash}>
          <span>{item.name}</span>
          <span className="mono dim">
            {[item.length ? span(item.length) : "", bytes(item.size)].filter(Boolean).join(" · ")}
          </span>
        </li>
      ))}
    </ul>
  );
}
