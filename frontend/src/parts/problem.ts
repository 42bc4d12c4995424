/** What the program refused, or could not do, in a sentence for the person. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    sentence: string,
  ) {
    super(sentence);
  }
}
