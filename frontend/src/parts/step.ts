/**
 * A large screen stands further away: text and handles are a step larger there, the page's through the scale of the theme, the
 * picture's through this number. It is settled when the page is loaded.
 */
export const STEP = globalThis.matchMedia?.("(min-width: 1900px)").matches ? 1.125 : 1;

/** A length of the picture, pixels, on this screen. */
export const px = (length: number) => Math.round(length * STEP);
