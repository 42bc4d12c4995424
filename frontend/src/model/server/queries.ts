/** Answers that are looked at, not edited: cached by what they depend on. */
import { useDebouncedValue } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { useRef } from "react";
import { queries } from "../../api/cache";
import { api, type BeforeAfter } from "../../api/client";
import { isOvertaken } from "../../parts/problem";
import { allAnswered } from "./edits";
import { useSession } from "./session";

const SETTLED = 60;

/** What is shown until the answer is there: what there was of this track, for that of another is none of this one's. */
const ofSame =
  (track: string | undefined) =>
  <T>(old: T | undefined, query?: { queryKey: readonly unknown[] }): T | undefined =>
    query?.queryKey[1] === track ? old : undefined;

/** Figures of a track before and after; anew with every gain and rule, the old ones shown until then. */
export function useFigures(track: string | undefined) {
  const gain = useSession((s) => s.header?.tracks.find((one) => one.id === track)?.gain_key ?? "");
  const rule = useSession((s) => JSON.stringify(s.header?.rule));
  // what is heard comes first: figures are asked for once the gain is on its way
  const [of] = useDebouncedValue(`${track} ${gain} ${rule}`, SETTLED);
  const known = useRef<{ track: string | undefined; data: BeforeAfter } | null>(null);
  const query = useQuery({
    queryKey: ["figures", track, of],
    // those of a state that is over are not asked for, or not worked out to the end
    queryFn: async ({ signal }) => {
      await allAnswered();
      return api.figures(track!, of.split(" ")[1]!, signal);
    },
    enabled: gain !== "" && of.startsWith(`${track} `),
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: ofSame(track),
    retry: false,
  });
  if (query.data) known.current = { track, data: query.data };
  // those that an edit has overtaken come with what it has made
  const last = isOvertaken(query.error) && known.current?.track === track ? known.current?.data : undefined;
  return { data: query.data ?? last };
}

/** Resolves when no figures of a track are being worked out. */
export function figuresSettled(track: string): Promise<void> {
  const queryKey = ["figures", track];
  if (!queries.isFetching({ queryKey })) return Promise.resolve();
  return new Promise((resolve) => {
    const leave = queries.getQueryCache().subscribe(() => {
      if (queries.isFetching({ queryKey })) return;
      leave();
      resolve();
    });
  });
}

/** The takes of a track with their clips and figures; anew with every revision, the old ones shown until then. */
export function useTakes(track: string | undefined) {
  const revision = useSession((s) => s.header?.revision ?? 0);
  return useQuery({
    queryKey: ["takes", track, revision],
    queryFn: () => api.takes(track!),
    enabled: track !== undefined,
    placeholderData: ofSame(track),
    retry: false,
  });
}

const AT_WORK = 400;
const AT_REST = 15000;

/** The jobs of the open session; asked for often while one is at work. */
export function useJobs() {
  const id = useSession((s) => s.id);
  return useQuery({
    queryKey: ["jobs", id],
    queryFn: () => api.jobs(id),
    enabled: id !== "",
    refetchInterval: (query) =>
      query.state.data?.some((job) => job.state === "waiting" || job.state === "running") ? AT_WORK : AT_REST,
  });
}

export function useCards() {
  return useQuery({ queryKey: ["cards"], queryFn: api.cards, refetchInterval: 5000 });
}

/** The recordings that belong to no session. */
export function useLoose() {
  return useQuery({ queryKey: ["loose"], queryFn: api.loose, refetchInterval: 15000 });
}
