/** Reading what may be no JSON. */
export function readJson(text: string): object {
  try {
    return JSON.parse(text) as object;
  } catch {
    return {};
  }
}
