/** What can be done with marks and their dips: stepping through them by ear, deepening, keeping out, correcting, making. */
import { api, type DipRule, type DipRuleChange, type KindTerms, type Mark } from "../../api/client";
import { tell } from "../../parts/messages";
import { stairs } from "../../sound/lines";
import { Drafts } from "../drafts/drafts";
import { playSpan } from "../heard/listening";
import { reveal, show } from "../heard/looking";
import { hearHand, type Over } from "../server/ear";
import { edit, editInHand } from "../server/edits";
import { duration, focused, focusedMarks, selectedMarks } from "../server/focus";
import { type DepthChange, heardDepth, overMarks, overTrack, withDepth } from "../server/over";
import { useSession } from "../server/session";
import { type AnyKind, KINDS, type Kind, listed } from "../view/kinds";
import { hand, redraw, useView } from "../view/view";

/** What a mark is told against: of one, and of many. */
export const AGAINST: Record<KindTerms["against"], { one: string; many: string }> = {
  phrase: { one: "dB to its phrase", many: "dB to their phrases" },
  usual: { one: "dB over the usual", many: "dB over the usual" },
  nothing: { one: "dBFS", many: "dBFS" },
};

export const termsOf = (kind: AnyKind): KindTerms | undefined => useSession.getState().terms?.kinds[kind];

/** The unit of what is told of a mark before and after. */
export const standsIn = (kind: AnyKind): string => AGAINST[termsOf(kind)?.against ?? "nothing"].one;

/** How far a mark stands out, to order the worklist by: what sounds too loud for its kind comes first. */
function prominence(mark: Mark): number {
  const value = mark.after ?? mark.before ?? -120;
  // a breath is told against its phrase, a gap in dBFS: all are brought to where an ess with no excess is
  return value - (termsOf(mark.kind)?.usually ?? 0);
}

/** Whether a mark may be something else, a word: it is left as it is until the hand says what it is. */
export const isDoubtful = (mark: Mark) => mark.reason === "in doubt";

/** The marks of the worklist: of the kinds that are shown, by time or by how much they stand out. */
export function markList(marks: Mark[], kinds: Set<string>, order: "worst" | "time"): Mark[] {
  const shown = marks.filter((mark) => kinds.has(mark.kind));
  if (order === "time") return shown;
  // what is in doubt waits for the hand; what there is nothing to take down of comes last, however loud it is
  const rank = (mark: Mark) => (isDoubtful(mark) ? -1 : mark.lisp ? 0 : mark.depth < 0 || mark.by_hand ? 1 : 2);
  return shown.sort((a, b) => rank(a) - rank(b) || prominence(b) - prominence(a) || a.start - b.start);
}

export const selectMarks = (ids: Iterable<string>) =>
  useView.setState({ marks: new Set(ids), selection: new Set(), points: new Set(), span: null });

// --- going through them

const AROUND = 1;

/** Play a mark with a second around it; twice, before and then after, if that is asked for. */
export function playMark(mark: Mark) {
  const span = { start: Math.max(0, mark.start - AROUND), end: Math.min(duration(), mark.end + AROUND) };
  playSpan(span, useView.getState().twice);
}

/** The longest window in which a knock can still be seen and held, and the one that is shown instead of a longer one. */
const FAR = 15;
const NEAR = 6;

export function goToMark(mark: Mark) {
  selectMarks([mark.id]);
  const { window } = useView.getState();
  const middle = (mark.start + mark.end) / 2;
  if (window.end - window.start > FAR) show({ start: middle - NEAR / 2, end: middle + NEAR / 2 }, 0);
  else reveal({ start: mark.start - AROUND / 2, end: mark.end + AROUND / 2 });
  playMark(mark);
}

/** Go to the next or previous mark of the worklist; with ``onlyUp``, to one whose dip is not on. */
export function stepMark(direction: 1 | -1, onlyUp: boolean) {
  const { kinds, order, marks } = useView.getState();
  const items = markList(focusedMarks(), kinds, order);
  const at = items.findIndex((mark) => marks.has(mark.id));
  for (let i = 1; i <= items.length; i++) {
    const from = at < 0 ? (direction === 1 ? -1 : 0) : at;
    const mark = items[(from + direction * i + items.length * 2) % items.length]!;
    if (onlyUp && (mark.on || mark.keep === "out" || mark.depth === 0)) continue;
    return goToMark(mark);
  }
  tell(items.length === 0 ? "There are no marks of these kinds." : "Everything here is down or kept out.");
}

// --- working on them

const needMarks = (): Mark[] => {
  const marks = selectedMarks();
  if (marks.length === 0) tell(`Select a ${listed("or", "one")} first: click it, or press . for the next.`);
  return marks;
};

/** What is heard of dips that become something else. */
function dipsHeard(marks: Mark[], become: (mark: Mark) => Partial<Mark>): Over {
  const spans = marks.map((mark) => ({
    start: mark.dip_start,
    end: mark.dip_end,
    by: heardDepth({ ...mark, ...become(mark) }) - heardDepth(mark),
  }));
  return { track: marks[0]!.track, layer: "dips", line: stairs(spans) };
}

/** Let dips that the hand moves be heard at once; the compiled gain follows. */
export const hearDips = (marks: Mark[], by: number) =>
  hearHand(by === 0 || marks.length === 0 ? null : dipsHeard(marks, (mark) => withDepth(mark, { by })));

export async function changeDepth(marks: Mark[], change: DepthChange, gesture?: string): Promise<boolean> {
  const track = focused();
  if (!track || marks.length === 0) return false;
  const ids = marks.map((mark) => mark.id);
  const become = (mark: Mark) => withDepth(mark, change);
  return edit("set the depth of a dip", (revision) => api.depth(track.id, revision, ids, change), {
    over: overMarks(track.id, ids, become),
    heard: dipsHeard(marks, become),
    gesture,
  });
}

export function nudgeMarks(by: number) {
  const marks = needMarks();
  if (marks.length) void changeDepth(marks, { by }, `nudge ${marks.map((mark) => mark.id)}`);
}

/** Have nothing left of the selected marks, or of the selected span. */
export function silence() {
  if (useView.getState().span) return void makeOfSpan("dip", true);
  const marks = needMarks();
  if (marks.length) void changeDepth(marks, { silent: true });
}

export function toggleKeepOut() {
  const marks = needMarks();
  const track = focused();
  if (!track || marks.length === 0) return;
  const ids = marks.map((mark) => mark.id);
  const keep = marks.every((mark) => mark.keep === "out") ? "rule" : "out";
  const become = (mark: Mark) => ({ keep, on: keep === "rule" && (track.rules[mark.kind]?.on ?? mark.on) });
  void edit("turn a mark down, or not", (revision) => api.detail(track.id, { revision, marks: ids, keep }), {
    over: overMarks(track.id, ids, become),
    heard: dipsHeard(marks, become),
  });
}

export function toggleNotch() {
  const marks = needMarks();
  const track = focused();
  if (!track || marks.length === 0) return;
  const ids = marks.map((mark) => mark.id);
  const notch = !marks.every((mark) => mark.notch);
  void edit("change the shape of a dip", (revision) => api.detail(track.id, { revision, marks: ids, notch }), {
    over: overMarks(track.id, ids, () => ({ notch })),
  });
}

export function correctKind(kind: Kind) {
  const marks = needMarks();
  if (marks.length > 0) sayKind(marks, kind);
}

/** Say of marks in doubt that they are what they are called. */
export function confirmMarks() {
  const marks = needMarks();
  if (marks.length === 0) return;
  const doubtful = marks.filter(isDoubtful);
  if (doubtful.length === 0) return tell("Nothing that is selected is in doubt.");
  sayKind(doubtful, doubtful[0]!.kind as Kind);
}

function sayKind(marks: Mark[], kind: Kind) {
  const track = focused();
  if (!track) return;
  const ids = marks.map((mark) => mark.id);
  void edit("say what a mark is", (revision) =>
    api.correctMarks(track.id, { revision, marks: ids, kind, gone: false }),
  );
}

export async function notAMark() {
  const marks = needMarks();
  const track = focused();
  if (!track || marks.length === 0) return;
  const ids = marks.map((mark) => mark.id);
  if (await editInHand("remove a mark", (revision) => api.correctMarks(track.id, { revision, marks: ids, gone: true })))
    selectMarks([]);
}

export function resetMarks() {
  const marks = needMarks().filter((mark) => mark.by_hand);
  const track = focused();
  if (!track) return;
  if (marks.length === 0) return tell("Nothing was done by hand here.");
  const ids = marks.map((mark) => mark.id);
  void edit("give marks back as they were found", (revision) => api.resetMarks(track.id, revision, ids));
}

/** Keep the edges that the hand has moved: those of a mark correct it, those of a dip only change the dip. */
export function keepEdges(mark: Mark): Promise<boolean> {
  const track = focused();
  const values = hand.edge?.values;
  if (!track || !values) return Promise.resolve(false);
  const { start, end, dip_start, dip_end, ramp_in, ramp_out } = values;
  return edit(
    "move an edge",
    (revision) =>
      start !== undefined || end !== undefined
        ? api.correctMarks(track.id, { revision, marks: [mark.id], start, end, gone: false })
        : api.dipEdges(track.id, { revision, mark: mark.id, start: dip_start, end: dip_end, ramp_in, ramp_out }),
    { over: overMarks(track.id, [mark.id], () => values) },
  );
}

/** Make a mark, or a dip that follows no rule, over the selected span. */
export async function makeOfSpan(kind: AnyKind, silent?: true) {
  const track = focused();
  const { span } = useView.getState();
  if (!track) return;
  if (!span) return tell("Select a span first: drag across empty ground.");
  let known = new Set<string>();
  const isOurs = await editInHand("add a mark", (revision) => {
    known = new Set(focusedMarks().map((mark) => mark.id));
    return api.makeMark(track.id, { revision, kind, start: span.start, end: span.end, silent });
  });
  const made = isOurs && focusedMarks().find((mark) => !known.has(mark.id));
  if (made) selectMarks([made.id]);
}

// --- rules

export async function setDipRule(kind: Kind, rule: DipRuleChange): Promise<boolean> {
  const track = focused();
  if (!track) return false;
  const over = overTrack(track.id, ({ rules }) => ({
    rules: { ...rules, [kind]: { ...rules[kind]!, ...given(rule) } },
  }));
  const gesture = `rule ${track.id} ${kind} ${Object.keys(rule)}`;
  return edit("change the rule of a kind", (revision) => api.dipRule(track.id, revision, kind, rule), {
    over,
    gesture,
  });
}

/** Those values of a rule that are said. */
const given = (rule: DipRuleChange): Partial<DipRule> =>
  Object.fromEntries(Object.entries(rule).filter(([, value]) => value !== undefined && value !== null));

/** Switch a rule on or off. */
export function switchDipRule(kind: Kind) {
  const rule = focused()?.rules[kind];
  if (rule) void setDipRule(kind, { on: !rule.on });
}

let tried: Partial<Record<Kind, DipRuleChange>> = {};

const trials = new Drafts(
  () => {
    const track = focused();
    return track && { track: track.id, rules: tried as Record<string, DipRuleChange> };
  },
  ({ track, rules }) => api.dipTrial(track, rules),
  (trial) => {
    hand.trial = trial && new Map(trial.marks.map((id, i) => [id, trial.depth[i]!]));
    redraw();
  },
);

/** Show what another rule would do, while its slider moves. Nothing is kept. */
export function tryDipRule(kind: Kind, rule: DipRuleChange) {
  tried = { [kind]: rule };
  void trials.make();
}

/** What a slider tried last is over, unless it or another one has tried something since. */
export function endingTrial(): () => void {
  const own = tried;
  return () => {
    if (tried === own) trials.drop();
  };
}

/** Turn every kind down that there is something of, each by its rule. */
export async function allDown() {
  const track = focused();
  if (!track) return;
  const marks = focusedMarks();
  const off = KINDS.filter((kind) => !track.rules[kind]!.on && marks.some((mark) => mark.kind === kind));
  if (off.length === 0) return tell("Every kind is down already. Each has its own switch.");
  for (const kind of off) if (!(await setDipRule(kind, { on: true }))) return;
}

export async function findAgain() {
  const track = focused();
  if (!track) return;
  if (await edit("find the details again", (revision) => api.findAgain(track.id, revision))) {
    tell("The details were found again. Your manual changes were kept.");
  }
}
