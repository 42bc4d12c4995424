/** Mute and solo of a track: beside its name above the picture, in the stage Survey in its lane. */
import type { Track } from "../api/client";
import { toggleHeard } from "../model/heard/mix";
import "./HeardSwitches.css";

export function HeardSwitches({ track }: { track: Track }) {
  return (
    <>
      <HeardSwitch track={track} which="mute" letter="M" />
      <HeardSwitch track={track} which="solo" letter="S" />
    </>
  );
}

/** Mute or solo of a track, by the letters that every desk has. */
function HeardSwitch({ track, which, letter }: { track: Track; which: "mute" | "solo"; letter: string }) {
  return (
    <button
      type="button"
      className={`chip-switch chip-${which}`}
      aria-pressed={track[which]}
      aria-label={`${which === "mute" ? "Mute" : "Solo"} ${track.name}`}
      title={which === "mute" ? "Mute (M)" : "Solo (Shift+M)"}
      // a lane would take it for its own
      onPointerDown={(event) => event.stopPropagation()}
      onClick={() => toggleHeard(which, track)}
    >
      {letter}
    </button>
  );
}
