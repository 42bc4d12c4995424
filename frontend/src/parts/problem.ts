/** What the program refused, or could not do, in a sentence for the person. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    sentence: string,
    /** The kind of error, as the program names it. */
    readonly kind = "",
    /** The command that the sentence speaks of, by its id in the table of commands. */
    readonly command = "",
  ) {
    super(sentence);
  }
}

/** Whether what was asked for is another one by now, or gone: an edit was quicker than the question. */
export const isOvertaken = (error: unknown): boolean =>
  error instanceof Problem && (error.status === 404 || error.status === 409);

const STOPPED = "Stopped";
/** What was asked for is not wanted any more. */
export const stopped = () => new Problem(0, "This was stopped. Nothing was changed.", STOPPED);
export const isStopped = (error: unknown): boolean => error instanceof Problem && error.kind === STOPPED;
