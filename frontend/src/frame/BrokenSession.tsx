/** A session that cannot be read: what is wrong, and the ways out of it. */
import { Button, Group } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import { queries } from "../api/cache";
import { api } from "../api/client";
import { complain } from "../parts/messages";
import { MessageBar } from "./MessageBar";

export function BrokenSession({ id, why, onWhole }: { id: string; why: string; onWhole: () => void }) {
  const [busy, setBusy] = useState(false);
  const undo = async () => {
    setBusy(true);
    try {
      await api.undoToWhole(id);
      await queries.invalidateQueries({ queryKey: ["cards"] });
      onWhole();
    } catch (problem) {
      complain(problem);
    } finally {
      setBusy(false);
    }
  };
  return (
    <main className="alone">
      <div className="empty" role="alert">
        <h2>This session cannot be read</h2>
        <p>{why}</p>
        <p className="dim">
          Your recordings and all other sessions are unharmed. Undoing takes back the newest steps until the session can
          be read again. Save it as a file first to keep what they held.
        </p>
        <Group gap={8} mt={16} justify="center">
          <Button loading={busy} onClick={() => void undo()}>
            Undo to where it was whole
          </Button>
          <Button component="a" href={api.rowsAddress(id)} download variant="default">
            Save as a file
          </Button>
          <Button component={Link} to="/" variant="default">
            All sessions
          </Button>
        </Group>
      </div>
      <MessageBar apart />
    </main>
  );
}
