/** What the hand wrote: passes are taken down while it plays, lie over the lane, and are kept or dropped. */
import { api, type HowWritten, type LaneName, type Pass, type PassDraft } from "../../api/client";
import { tell } from "../../parts/messages";
import { engine, type Ridden } from "../../sound/engine";
import { Drafts } from "../drafts/drafts";
import { drawn, lookAgain, onHeard, useHeard } from "../heard/heard";
import { play } from "../heard/listening";
import { hearDraft, type Over } from "../server/ear";
import { edit, tellDone } from "../server/edits";
import { focused, selectedSpan } from "../server/focus";
import { redraw, useView } from "../view/view";
import { endKeys, howWritten, isOffset, leaveHand, useRiding } from "./riding";
import { Taking } from "./taking";

/** What the hand has written in this round, in seconds and dB, as it is drawn while it plays; NaN dB between runs. */
export const written = { lane: "ride" as LaneName, at: [] as number[], db: [] as number[] };

// --- taking down

let taking: Taking | null = null;
const underWay = new Set<Taking>();
let wrote = false;

function hear({ track, pairs, over }: Ridden) {
  const { mode } = useRiding.getState();
  if (pairs.length) {
    const { lane } = useView.getState();
    if (!taking) {
      taking = new Taking(track, lane, mode === "latch" ? "latch" : "touch", selectedSpan(), howWritten());
      underWay.add(taking);
      written.lane = lane;
      written.at = [];
      written.db = [];
      wrote = true;
      useRiding.setState({ writing: true });
      drafts.drop();
    }
    taking.add(pairs);
    for (let i = 0; i < pairs.length; i += 2) {
      const at = pairs[i]!;
      written.at.push(Number.isNaN(at) ? (written.at.at(-1) ?? 0) : at);
      written.db.push(pairs[i + 1]!);
    }
    redraw();
  }
  if (!over || !taking) return;
  const done = taking;
  taking = null;
  done.ended = () => {
    underWay.delete(done);
    made = done.id;
    // each is told of, though nothing of the session is another for it
    lookAgain();
  };
  done.finish();
  useRiding.setState({ writing: false });
  if (!useView.getState().playing) disarm();
}

/** After a stop that wrote something the hand only listens again, unless it is pinned. */
function disarm() {
  if (!wrote) return;
  wrote = false;
  if (!useRiding.getState().pinned) useRiding.setState({ armed: false });
}

// --- passes

/** The one that was taken down last, until it is told of. */
let made = "";

/** The passes of the track in focus. */
export const passes = (): Pass[] => drawn()?.passes ?? NONE;
export function usePasses(): Pass[] {
  useHeard();
  return passes();
}
const NONE: Pass[] = [];

let told: Pass[] | null = null;

// the one that was just made lies over the lane, and one that is there no more does not
onHeard(() => {
  const answer = drawn()?.passes ?? null;
  if (answer === told) return;
  told = answer;
  if (!answer) return drafts.drop();
  const isMade = !taking && answer.some((pass) => pass.id === made);
  const chosen = isMade ? made : useRiding.getState().chosen;
  if (isMade) made = "";
  const there = answer.find((pass) => pass.id === chosen && canBeWritten(pass));
  if (there) void choosePass(there.id);
  else drafts.drop();
  if (!taking) written.at = written.db = [];
});

/** What is in the lane as an offset cannot be written into it once more. */
const canBeWritten = (pass: Pass) => pass.state === "waiting" || !isOffset(pass.lane);

const drafts = new Drafts(
  () => {
    const { chosen, how } = useRiding.getState();
    return chosen ? { pass: chosen, how: howWritten(how) } : undefined;
  },
  ({ pass, how }) => api.passDraft(pass, how),
  // one that lies over the lane no more is not chosen either
  (draft) => useRiding.setState(draft ? { draft } : { draft, chosen: null }),
);

/** Let a pass lie over the lane as a draft; null: none. */
export async function choosePass(id: string | null) {
  const pass = passes().find((one) => one.id === id);
  if (!pass || !canBeWritten(pass)) return drafts.drop();
  if (useRiding.getState().chosen !== id) {
    const { glide, lead, error, snap } = pass;
    // what another pass would write is none of this one's
    drafts.drop();
    useRiding.setState({ chosen: pass.id, how: { glide, lead, error, snap } });
  }
  if (useView.getState().lane !== pass.lane) useView.setState({ lane: pass.lane, points: new Set() });
  await drafts.make();
}

/** Another way of writing the chosen pass, and those that follow. */
export async function setHow(change: Partial<HowWritten>) {
  useRiding.setState((s) => ({ how: { ...s.how, ...change } }));
  drafts.follow();
}

export const otherHeard = () => useRiding.setState((s) => ({ heard: !s.heard }));

/** The chosen pass is what the lane is, or its means are clip gain, from now on. */
export async function keepPass(asClipGain = false) {
  if (!useRiding.getState().chosen) return tell("Choose a pass first: click it beside the hand.");
  const done = await drafts.accept(
    "keep the pass",
    (revision, { pass, how }, { stamp }) => api.keepPass(pass, { revision, ...how, as_clip_gain: asClipGain, stamp }),
    (draft) => {
      // as an edit it is heard until the compiled gain has it, and as a draft no more
      keeping = draft;
      hearChosen();
      return { heard: overLane(draft) };
    },
  );
  keeping = null;
  hearChosen();
  if (done) tellDone();
}

export async function dropPass(id = useRiding.getState().chosen) {
  if (!id) return tell("Choose a pass first: click it beside the hand.");
  await edit("discard a pass", (revision) => api.dropPass(id, revision));
}

/** Play where a pass was made. */
export function playPass(pass: Pass) {
  play(Math.max(0, pass.start - 1), pass.end + 1);
}

/** The difference that a pass would make. */
const overLane = ({ at, by }: PassDraft): Over => ({
  track: focused()?.id ?? "",
  layer: useView.getState().lane,
  line: at.map((seconds, i) => [seconds, by[i]!]),
});

/** The draft whose difference is heard now, and the one that is being kept. */
let sounding: PassDraft | null = null;
let keeping: PassDraft | null = null;

/** The difference that the chosen pass would make is heard, unless the hand is about to write over the lane without it. */
function hearChosen() {
  const { draft, heard, armed } = useRiding.getState();
  const wanted = heard && !armed && draft !== keeping ? draft : null;
  if (wanted === sounding) return;
  sounding = wanted;
  hearDraft(wanted && overLane(wanted));
}

/** Take down what is ridden in the session that is open, until it is left. */
export function startRiding() {
  engine.onRidden = hear;
  const leave = () => {
    for (const pass of underWay) pass.leave();
  };
  window.addEventListener("pagehide", leave);
  window.addEventListener("blur", endKeys);
  return () => {
    leaveHand();
    window.removeEventListener("pagehide", leave);
    window.removeEventListener("blur", endKeys);
  };
}

useView.subscribe((now, old) => {
  if (old.playing && !now.playing) disarm();
  hearChosen();
});
useRiding.subscribe(hearChosen);
