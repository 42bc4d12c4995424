/**
 * What is done to the open session elsewhere - in another window, by a job - is heard of within a second, and had. Selection,
 * view and hand stay as they are here.
 */
import { api } from "../../api/client";
import { readJson } from "../../parts/json";
import { cameElsewhere } from "./edits";

const NAME = "nivelus news";
/** How long (ms) nothing has to be heard, not even a sign of life, for the page to ask by itself; and how often it asks. */
const SILENT = 7000;
const EVERY = 1000;

/** Listen for news of a session; returns what ends it. */
export function listenForNews(session: string): () => void {
  const end = new AbortController();
  const channel = new BroadcastChannel(NAME);
  let sign = Number.NEGATIVE_INFINITY;
  const take = (revisions: Record<string, number>) => {
    sign = performance.now();
    const revision = revisions[session];
    if (revision !== undefined) cameElsewhere(session, revision);
  };
  channel.onmessage = ({ data }) => take(data);
  const listen = () =>
    new Promise<void>((done) => {
      const source = new EventSource("/api/news");
      source.onmessage = ({ data }) => {
        const told = readJson(data) as Record<string, number>;
        take(told);
        channel.postMessage(told);
      };
      end.signal.addEventListener("abort", () => {
        source.close();
        done();
      });
    });
  // a browser has a handful of connections for one address: one window listens for all of its windows
  navigator.locks?.request(NAME, { signal: end.signal }, listen).catch(() => {});
  const timer = window.setInterval(() => {
    if (performance.now() - sign < SILENT) return;
    api.revision(session).then(
      ({ revision }) => cameElsewhere(session, revision),
      () => {},
    );
  }, EVERY);
  return () => {
    end.abort();
    channel.close();
    window.clearInterval(timer);
  };
}
