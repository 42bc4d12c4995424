/** What is shown where the page itself broke: a sentence and the way back, never a trace. */
import { Button, Group } from "@mantine/core";
import { useEffect } from "react";
import { useRouteError } from "react-router";

export function Broken() {
  const error = useRouteError();
  useEffect(() => console.error(error), [error]);
  return (
    <main className="broken" role="alert">
      <h1>Something went wrong on this page</h1>
      <p>
        Nothing is lost: every step that was answered is kept. Load the page again; if it breaks again, go back to the
        sessions.
      </p>
      <Group>
        <Button onClick={() => window.location.reload()}>Load again</Button>
        <Button variant="default" onClick={() => window.location.assign("/")}>
          Sessions
        </Button>
      </Group>
    </main>
  );
}
