/** Questions that are asked again before they are answered: the cache takes the older ones back, and the newest counts. */
import { CancelledError } from "@tanstack/react-query";
import { queries } from "../api/cache";
import { complain } from "../parts/messages";

let count = 0;

/**
 * Ask, with a signal that says when the answer is not wanted any more; null where the same question was asked again, or taken
 * back, before the answer came. Fails as ``work`` does.
 */
export async function newest<T>(question: string, work: (signal: AbortSignal) => Promise<T>): Promise<T | null> {
  takeBack(question);
  const queryFn = ({ signal }: { signal: AbortSignal }) => work(signal);
  try {
    return await queries.fetchQuery({ queryKey: [question, ++count], queryFn, gcTime: 0, retry: false });
  } catch (error) {
    if (error instanceof CancelledError) return null;
    throw error;
  }
}

/** Ask, and take the answer unless it was overtaken; what fails is told. */
export async function ask<T>(
  question: string,
  work: (signal: AbortSignal) => Promise<T>,
  take: (answer: T) => void,
): Promise<void> {
  try {
    const answer = await newest(question, work);
    if (answer !== null) take(answer);
  } catch (error) {
    complain(error);
  }
}

/** Whatever is on its way as an answer to a question is not wanted any more. */
export const takeBack = (question: string) => void queries.cancelQueries({ queryKey: [question] });
