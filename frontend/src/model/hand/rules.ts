/** Rules with names: those that there are, and what a session does with them. */
import { useQuery } from "@tanstack/react-query";
import { create } from "zustand";
import { queries } from "../../api/cache";
import { api, type NamedRule } from "../../api/client";
import { ask, complain, inWords, tell } from "../../parts/messages";
import { edit } from "../server/edits";
import { focused } from "../server/focus";
import { useSession } from "../server/session";
import { useRide } from "./rideState";

const KEY = ["rules"];

export function useRules(): NamedRule[] {
  return useQuery({ queryKey: KEY, queryFn: api.rules, staleTime: 30_000 }).data ?? [];
}

/** The name that the rule of the session is about to be kept under; null: it is not. */
export const useKeeping = create<{ name: string | null }>(() => ({ name: null }));
export const askForName = () => useKeeping.setState({ name: "" });
export const stopKeeping = () => useKeeping.setState({ name: null });

/** Make a rule that of the session. What was set of rides by hand gives way to it. */
export async function applyRule({ id, name }: NamedRule) {
  const done = await edit("set the rule", (revision, session) => api.applyRule(session, revision, id));
  if (!done) return;
  useRide.setState({ rule: {} });
  tell(`The rule is “${name}” now. Phrases move by it when they are drafted.`);
}

const lookAgain = () => queries.invalidateQueries({ queryKey: KEY });

/** Do something with the list of rules; it is looked at anew. */
async function withRules(work: Promise<unknown>, told: string) {
  await work.then(() => tell(told), complain);
  await lookAgain();
}

/** Keep the rule of the session, with the details of the track in focus, under a name; or say why not. */
export async function keepRule(name: string): Promise<string | undefined> {
  const { id } = useSession.getState();
  const body = { name, session: id, track: focused()?.id, ride: useRide.getState().rule };
  try {
    await api.keepRule(body);
  } catch (error) {
    return inWords(error);
  }
  tell(`The rule is kept as “${name}”.`);
  await lookAgain();
}

/** Keep a rule that a file holds, under the name of the file. */
export async function bringInRule(file: File) {
  const name = file.name.replace(/\.[^.]+$/, "");
  const text = await file.text().catch(() => null);
  if (text === null) return tell(`“${file.name}” cannot be read. Is it still where it was?`);
  return withRules(api.bringInRule(name, text), `“${name}” is one of the rules now.`);
}

/** Delete a rule that was kept, once the person says so again. */
export const deleteRule = ({ id, name }: NamedRule) =>
  ask(`Delete the rule “${name}” for good?`, "Delete", () => {
    void withRules(api.deleteRule(id), `The rule “${name}” is deleted.`);
  });
