/** A name that nothing else has. */
export const newId = () =>
  crypto.getRandomValues(new Uint8Array(12)).reduce((id, byte) => id + byte.toString(36).padStart(2, "0"), "");
