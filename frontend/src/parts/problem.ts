/** What the program refused, or could not do, in a sentence for the person. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    sentence: string,
    /** The kind of error, as the program names it. */
    readonly kind = "",
  ) {
    super(sentence);
  }
}

/** Whether what was asked for is another one by now, or gone: an edit was quicker than the question. */
export const isOvertaken = (error: unknown): boolean =>
  error instanceof Problem && (error.status === 404 || error.status === 409);
