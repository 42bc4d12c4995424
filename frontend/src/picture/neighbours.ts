/** Going from one thing in the picture to the next by keyboard, past the end of the window. */

import type { Clip } from "../api/client";
import { reveal } from "../model/heard/looking";
import type { Span } from "../model/view/view";

/** Bring the clip beside one that has the focus into the window; how its button is found, null where there is none. */
export function bringNext(clips: Clip[], from: HTMLElement, way: 1 | -1, spanOf: (clip: Clip) => Span): string | null {
  const next = clips[clips.findIndex((clip) => clip.id === from.dataset.clip) + way];
  if (!next) return null;
  reveal(spanOf(next));
  return `[data-clip="${next.id}"]`;
}
