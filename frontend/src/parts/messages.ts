/** Short messages at the edge of the screen: what happened, to what, and what can be done. */
import { notifications } from "@mantine/notifications";
import { Problem } from "./problem";

export const tell = (message: string) => notifications.show({ message, autoClose: 2500, withBorder: true });

export function complain(error: unknown) {
  const message = error instanceof Problem ? error.message : "Something unexpected went wrong. Try it again.";
  if (!(error instanceof Problem)) console.error(error);
  notifications.show({ message, color: "copper", autoClose: 8000, withBorder: true });
}
