/** The exact gain and the words of a phrase, typed where its capsule lies. Opened by a double click or a key. */
import { NumberInput, TextInput } from "@mantine/core";
import { type FocusEvent, type KeyboardEvent, useEffect, useState } from "react";
import { api } from "../api/client";
import { changeGain } from "../model/hand/gain";
import { reveal } from "../model/heard/looking";
import { edit } from "../model/server/edits";
import { focused, focusedClips, phraseSpan } from "../model/server/focus";
import { useView } from "../model/view/view";
import { px } from "../parts/step";
import { axis } from "./axis";
import { CAPSULE, capsuleBox, chartScale, levelRange } from "./scene";

const WIDTH = px(330);
const HEIGHT = px(40);

export function ExactValue({ width, height }: { width: number; height: number }) {
  const id = useView((s) => s.exact);
  const window = useView((s) => s.window);
  const clip = focusedClips().find((c) => c.id === id);
  // the fields keep their text as long as they are open, whatever is answered meanwhile
  const [gain, setGain] = useState<string | number | null>(null);
  const [words, setWords] = useState<string | null>(null);
  const [was, setWas] = useState<{ gain: number; label: string } | null>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the fields begin anew when they open, not when a clip changes
  useEffect(() => {
    setGain(null);
    setWords(null);
    setWas(clip ? { gain: clip.gain, label: clip.label } : null);
    if (!clip) return;
    reveal(phraseSpan(clip));
  }, [id]);
  const track = focused();
  if (!clip || !track || width === 0) return null;

  const range = levelRange(focusedClips(), track.target);
  const s = chartScale(range.low, range.high, height);
  const { x, w } = capsuleBox(axis(window, width), clip);
  const y = s.y((clip.after ?? track.target) - track.target);
  const below = y + CAPSULE + HEIGHT < height;

  const close = () => useView.setState({ exact: null });
  const apply = async () => {
    close();
    const value = Number(gain);
    if (words !== null && words.trim() !== clip.label)
      await edit("keep the words of a phrase", (revision) => api.label(track.id, revision, clip.id, words));
    if (gain !== null && gain !== "" && Number.isFinite(value) && value !== clip.gain)
      await changeGain([clip.id], { to: value });
  };
  const onKey = (event: KeyboardEvent) => {
    // the keys of the picture are not meant here
    event.stopPropagation();
    if (event.key === "Enter") void apply();
    if (event.key === "Escape") close();
  };
  const onLeave = (event: FocusEvent<HTMLDivElement>) => {
    if (!event.currentTarget.contains(event.relatedTarget as Node | null)) void apply();
  };
  return (
    <div
      className="exact"
      role="group"
      aria-label="Exact gain and words"
      style={{
        left: Math.min(Math.max(x + w / 2 - WIDTH / 2, 48), Math.max(width - WIDTH - 4, 48)),
        top: below ? y + CAPSULE : Math.max(y - CAPSULE - HEIGHT, 0),
        width: clip.after === null ? 110 : WIDTH,
      }}
      onPointerDown={(event) => event.stopPropagation()}
      onDoubleClick={(event) => event.stopPropagation()}
      onKeyDown={onKey}
      onBlur={onLeave}
    >
      <NumberInput
        size="xs"
        w={98}
        aria-label="Gain"
        autoFocus
        onFocus={(event) => event.currentTarget.select()}
        value={gain ?? was?.gain ?? clip.gain}
        onChange={(value) => (gain !== null || value !== was?.gain) && setGain(value)}
        suffix=" dB"
        decimalScale={2}
        step={0.5}
        min={-60}
        max={24}
        clampBehavior="none"
        disabled={clip.locked}
        title={clip.locked ? "This phrase is locked" : "Enter: set. Escape: cancel"}
      />
      {clip.after !== null && (
        <TextInput
          size="xs"
          flex={1}
          aria-label="Words"
          placeholder="words"
          value={words ?? was?.label ?? clip.label}
          onChange={(event) => setWords(event.currentTarget.value)}
        />
      )}
    </div>
  );
}
