/** The cache of what was asked of the server. */
import { QueryClient } from "@tanstack/react-query";
import { isStopped } from "../parts/problem";

/** What was stopped is not asked again by itself. */
const retry = (count: number, error: Error) => count < 1 && !isStopped(error);

export const queries = new QueryClient({ defaultOptions: { queries: { retry, refetchOnWindowFocus: false } } });

/** Have the jobs of a session asked for anew. */
export const jobsAgain = (session: string) => queries.invalidateQueries({ queryKey: ["jobs", session] });
