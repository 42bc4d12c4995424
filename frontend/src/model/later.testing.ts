/** An answer that comes, or fails to, when the test says so. */
export function later<T>() {
  let come: (value: T) => void = () => {};
  let fail: (error: Error) => void = () => {};
  const answer = new Promise<T>((resolve, reject) => {
    come = resolve;
    fail = reject;
  });
  return { answer, come, fail };
}
