/** How the server is talked to. Every failure becomes a Problem with a sentence for the person. */
import createClient from "openapi-fetch";
import { readJson } from "../parts/json";
import { isStopped, Problem, stopped } from "../parts/problem";
import { begin } from "../parts/waiting";
import type { paths } from "./schema";
import { onlyAsks, wordsFor } from "./words";

export const UNREACHABLE = "The program does not answer. Is it still running? Nothing that was accepted is lost.";

/** Addresses that are asked again and again by themselves: only the first answer is waited for. */
const REPEATED = /\/api\/(sessions|loose)$/;
const answered = new Set<string>();

/** The gesture that edits are part of while they are sent: those of one become one step of the history. */
let gesture = "";

/** Send what ``work`` sends as part of a gesture. */
export async function inGesture<T>(name: string, work: () => Promise<T> | T): Promise<T> {
  gesture = name;
  try {
    return await work();
  } finally {
    gesture = "";
  }
}

/** Fetch, and have it told what is waited for. What only asks can be stopped, and fails as such then. */
async function watched(request: Request): Promise<Response> {
  const { method, url } = request;
  if (gesture && method !== "GET") request.headers.set("X-Gesture", gesture);
  const { pathname, search } = new URL(url);
  const words = wordsFor(method, pathname);
  if (!words || (method === "GET" && answered.has(url))) return fetch(request);
  const control = onlyAsks(method, pathname, search) ? new AbortController() : undefined;
  const ended = begin(words, control && (() => control.abort(stopped())));
  try {
    const signal = control && AbortSignal.any([request.signal, control.signal]);
    const response = await fetch(signal ? new Request(request, { signal }) : request);
    if (method === "GET" && REPEATED.test(pathname)) answered.add(url);
    return response;
  } finally {
    ended();
  }
}

export const client = createClient<paths>({ baseUrl: "/", fetch: watched });

/** What a refusal says (RFC 9457). */
interface Failure {
  title?: string;
  detail?: string;
  command?: string;
}

const problemOf = (status: number, { title, detail, command }: Failure, otherwise: string) =>
  new Problem(status, detail ?? otherwise, title, command);

function unreachable(error: unknown): never {
  throw isStopped(error) ? error : new Problem(0, UNREACHABLE);
}

export async function take<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await call.catch(unreachable);
  if (error !== undefined || !response.ok) {
    throw problemOf(response.status, (error ?? {}) as Failure, "The program answered in a way that is not understood.");
  }
  return data as T;
}

export async function bytes(address: string, signal?: AbortSignal): Promise<ArrayBuffer> {
  const response = await watched(new Request(address, { signal }));
  if (!response.ok) {
    throw problemOf(response.status, (await response.json().catch(() => ({}))) as Failure, UNREACHABLE);
  }
  return response.arrayBuffer();
}

/** Send bytes as they are. */
export async function send<T>(address: string, body: BodyInit): Promise<T> {
  const response = await watched(new Request(address, { method: "POST", body })).catch(unreachable);
  const answer = readJson(await response.text());
  if (!response.ok) throw problemOf(response.status, answer as Failure, UNREACHABLE);
  return answer as T;
}

/** Send a file; how much of it has gone is reported as a share of its bytes. */
export function upload<T>(
  address: string,
  file: File,
  onProgress: (share: number) => void,
  signal: AbortSignal,
): Promise<T> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", address);
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.upload.onprogress = (event) => onProgress(event.total ? event.loaded / event.total : 0);
    request.onload = () => {
      const body = readJson(request.responseText) as Failure;
      if (request.status === 202) resolve(body as T);
      else if (request.status === 413) reject(new Problem(413, `“${file.name}” is too large to import.`));
      else reject(problemOf(request.status, body, UNREACHABLE));
    };
    request.onerror = () => reject(new Problem(0, `“${file.name}” could not be uploaded. ${UNREACHABLE}`));
    signal.onabort = () => {
      request.abort();
      reject(new Problem(0, `“${file.name}” was stopped.`));
    };
    request.send(file);
  });
}
