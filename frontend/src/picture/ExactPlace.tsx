/** The exact time of a clip, typed at the clip itself. Opened by a double click or a key, as the exact gain is elsewhere. */
import { NumberInput } from "@mantine/core";
import { useEffect, useState } from "react";
import { moveClipTo } from "../model/hand/timeline";
import { reveal } from "../model/heard/looking";
import { focused, focusedClips } from "../model/server/focus";
import { useView } from "../model/view/view";
import { px } from "../parts/step";
import { axis } from "./axis";

const WIDTH = px(150);

export function ExactPlace({ width, height }: { width: number; height: number }) {
  const id = useView((s) => s.exact);
  const window = useView((s) => s.window);
  const clip = focusedClips().find((one) => one.id === id);
  // the field keeps its text as long as it is open, whatever is answered meanwhile
  const [typed, setTyped] = useState<string | number | null>(null);
  const [was, setWas] = useState<number | null>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the field begins anew when it opens, not when a clip moves
  useEffect(() => {
    setTyped(null);
    setWas(clip?.start ?? null);
    if (!clip) return;
    reveal(clip);
  }, [id]);
  const track = focused();
  if (!clip || !track || width === 0) return null;
  const a = axis(window, width);
  const close = () => useView.setState({ exact: null });
  const apply = () => {
    close();
    const at = Number(typed);
    if (typed !== null && typed !== "" && Number.isFinite(at) && Math.abs(at - clip.start) > 1e-4)
      void moveClipTo(track.id, clip.id, at);
  };
  return (
    <div
      className="exact"
      role="group"
      aria-label="Exact time"
      style={{
        left: Math.min(Math.max(a.x(clip.start), 48), Math.max(width - WIDTH - 4, 48)),
        top: Math.max(Math.min(22, height - 40), 0),
        width: WIDTH,
      }}
      onPointerDown={(event) => event.stopPropagation()}
      onDoubleClick={(event) => event.stopPropagation()}
      onKeyDown={(event) => {
        event.stopPropagation();
        if (event.key === "Enter") apply();
        if (event.key === "Escape") close();
      }}
      onBlur={apply}
    >
      <NumberInput
        size="xs"
        aria-label="Begins at"
        autoFocus
        onFocus={(event) => event.currentTarget.select()}
        value={typed ?? Math.round((was ?? clip.start) * 1e4) / 1e4}
        onChange={setTyped}
        prefix="begins "
        suffix=" s"
        decimalScale={4}
        step={0.1}
        min={0}
        max={21600}
        disabled={clip.locked}
        title={clip.locked ? "This phrase is locked" : "Enter: move it there. Escape: cancel"}
      />
    </div>
  );
}
