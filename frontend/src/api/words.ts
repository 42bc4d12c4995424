/** What the program does for an address, in words for who waits for it. */

/** Addresses that nobody waits for, or that have a progress of their own. */
const UNSEEN = [
  /^GET .*\/(jobs|hand|revision|samples|reduction|wave\/.*|onsets|trace|heard|gain)$/,
  /^\w+ .*\/(hand\/shown|pieces|uploads|jobs\/.*)$/,
];

const WORDS: [RegExp, string][] = [
  [/^GET .*\/sessions$/, "Looking through the sessions"],
  [/^GET .*\/sessions\/[^/]+$/, "Opening the session"],
  [/^GET .*\/arrangement$/, "Looking how these go together"],
  [/^GET .*\/distance(\/course)?$/, "Measuring how far the voice is over the bed"],
  [/^GET .*\/load(\/course)?$/, "Working out what the compressor has to do"],
  [/^GET .*\/figures$/, "Measuring before and after"],
  [/^GET .*\/ride\/inside$/, "Measuring inside the phrases"],
  [/^GET .*\/lanes$/, "Reading the ride"],
  [/^GET .*\/takes$/, "Measuring the takes"],
  [/^GET .*\/passes$/, "Reading the passes"],
  [/^GET .*\/loose$/, "Looking for recordings without a session"],
  [/^POST .*\/ride\/draft$/, "Drafting a ride"],
  [/^POST .*\/duck\/draft$/, "Drafting a duck"],
  [/^POST .*\/slow\/draft$/, "Drafting a slow ride"],
  [/^POST .*\/passes\/[^/]+\/draft$/, "Drafting what the pass would write"],
  [/^POST .*\/draft$/, "Drafting clip gain"],
  [/^POST .*\/details\/trial$/, "Trying the dips"],
  [/^POST .*\/draft\/accept$/, "Making the draft hold"],
  [/^POST .*\/phrases\/find$/, "Finding the phrases again"],
  [/^POST .*\/details\/find$/, "Finding the details again"],
  [/^POST .*\/takes\/match$/, "Matching the takes"],
  [/^POST .*\/takes\/(hear|choose)$/, "Changing the take"],
  [/^POST .*\/sessions\/[^/]+\/rule$/, "Setting the rule"],
  [/\/rules(\/.*)?$/, "Looking through the rules"],
  [/^POST .*\/(undo|undo-to-whole)$/, "Undoing"],
  [/^POST .*\/copies$/, "Duplicating the track"],
  [/^POST .*\/redo$/, "Doing it again"],
  [/^POST .*\/sessions$/, "Making a session"],
  [/^DELETE .*\/sessions\/[^/]+$/, "Deleting the session"],
  [/^POST .*\/loose\/delete$/, "Deleting recordings"],
  [/^POST .*\/loose\/bring-back$/, "Bringing recordings back"],
  [/^GET /, "Reading"],
  [/./, "Making the change"],
];

/** Words for what an address does; none where nobody waits for it. */
export function wordsFor(method: string, path: string): string | undefined {
  const asked = `${method} ${path}`;
  if (UNSEEN.some((pattern) => pattern.test(asked))) return undefined;
  return WORDS.find(([pattern]) => pattern.test(asked))?.[1];
}

/** Whether it only asks, and the page can do without an answer: called off, nothing has been changed. */
export function onlyAsks(method: string, path: string, search: string): boolean {
  // what belongs to an open session has to come
  if (search.includes("only=")) return false;
  return method === "GET" || /\/(draft|trial)$/.test(path);
}
