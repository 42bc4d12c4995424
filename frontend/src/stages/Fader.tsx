/** One number that nothing but the hand moves. Heard while it is dragged, kept when it is let go. */
import { Slider } from "@mantine/core";
import { holdFader, setFader } from "../model/heard/mix";
import { useSession } from "../model/server/session";
import { db } from "../parts/format";
import { isByKey } from "../parts/roving";
import { useHeld } from "../parts/useHeld";
import "./Fader.css";

const SLIDER_LOW = -40;

interface Props {
  track: string;
  value: number;
  /** How it is called on the screen and by a screen reader. */
  name?: string;
  label?: string;
  /** Keys have the fader of the track in focus, below the picture. */
  isSecond?: boolean;
}

export function Fader({ track, value, name = "fader", label = "Fader", isSecond }: Props) {
  const { held, hold, keep } = useHeld<number>(async (next) => {
    const letGo = holdFader({ track, db: next });
    await setFader(track, next);
    letGo();
  });
  const terms = useSession((s) => s.terms);
  const shown = held ?? value;
  // below this the slider would be all silence: a lower value is typed
  const low = Math.max(terms?.fader_low ?? 0, SLIDER_LOW);
  return (
    <>
      <span className="fader-line">
        <strong>{name}</strong>
        <button
          type="button"
          className="mono fader-value"
          title="Double click, or Enter: back to 0 dB"
          aria-label={`${label} ${db(shown)}: back to 0 dB`}
          onClick={(event) => isByKey(event) && void keep(0)}
          onDoubleClick={() => void keep(0)}
        >
          {db(shown)}
        </button>
      </span>
      <Slider
        size={3}
        thumbSize={14}
        min={low}
        max={terms?.fader_high ?? 0}
        step={0.1}
        label={null}
        thumbLabel={label}
        thumbProps={isSecond ? { tabIndex: -1 } : undefined}
        value={Math.max(shown, low)}
        onChange={(next) => {
          hold(next);
          holdFader({ track, db: next });
        }}
        onChangeEnd={(next) => void keep(next)}
      />
    </>
  );
}
