/** What is rendered, and asking for it: from the stage Sign off, by its button or its key. */
import { create } from "zustand";
import { jobsAgain } from "../../api/cache";
import { api, type RenderRequest } from "../../api/client";
import { complain } from "../../parts/messages";
import { ALL_LAYERS, LAYER_NAMES, type Layer, useView } from "../view/view";
import { edited } from "./edits";
import { focused } from "./focus";
import { useSession } from "./session";
import { soundFormats, waysOut } from "./soundFormats";

interface Choice {
  /** Format and bits, as in ``waysOut``. */
  kind: string;
  which: "focus" | "all" | "mix";
  withFader: boolean;
  limited: boolean;
  compressed: boolean;
}

export const useRenders = create<Choice>(() => ({
  kind: "wav-24",
  which: "focus",
  withFader: false,
  limited: false,
  compressed: false,
}));

/** Render what is chosen, as it is once all edits that were made are answered. */
export async function render() {
  const { kind, which, withFader, limited, compressed } = useRenders.getState();
  const { id, header } = useSession.getState();
  const track = focused();
  if (!track || !header) return;
  const isMix = which === "mix" && header.tracks.length > 1;
  const tracks = which === "all" ? header.tracks : [track];
  await edited();
  try {
    const way = waysOut(await soundFormats()).find((one) => one.value === kind)!;
    const { format, bits } = way as Pick<RenderRequest, "format" | "bits">;
    const body: RenderRequest = { format, bits, with_fader: withFader };
    if (isMix) await api.mix(id, { format, bits, limited, compressed });
    else for (const one of tracks) await api.render(one.id, body);
  } catch (error) {
    complain(error);
  }
  await jobsAgain(id);
}

/** What is switched off for the ear only, in words: it is in what is rendered all the same. */
export function useUnheard(): string {
  const before = useView((s) => s.before);
  const layers = useView((s) => s.layers);
  if (before) return "You are listening to Before. What is rendered is After.";
  const off = (Object.keys(ALL_LAYERS) as Layer[]).filter((layer) => !layers[layer]).map((layer) => LAYER_NAMES[layer]);
  if (off.length === 0) return "";
  return `Switched off for your ears only, and in the render: ${off.join(", ")}.`;
}
