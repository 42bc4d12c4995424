/** What the server can be asked for. */
import { Problem } from "../parts/problem";
import { type Answered, unpack } from "./packed";
import type { components } from "./schema";
import { bytes, client, send, take, UNREACHABLE, upload } from "./transport";

type Schemas = components["schemas"];
export type Changed = Schemas["Changed"];
export type Clip = Schemas["ClipView"];
export type Mark = Schemas["MarkView"];
export type KindTerms = Schemas["KindTerms"];
export type SoundFormat = Schemas["SoundFormatTerms"];
export type MarkColumns = Schemas["MarkColumns"];
export type NamedRule = Schemas["NamedRule"];
export type DipRule = Schemas["DipRuleView"];
export type DipRuleChange = Schemas["DipRuleIn"];
export type Trial = Schemas["TrialView"];
export type Ride = Schemas["RideView"];
export type Inside = Schemas["InsideView"];
export type RidePoint = Schemas["RidePoint"];
export type LanePoint = Schemas["LanePoint"];
export type PointsChange = Partial<Omit<Schemas["PointsChange"], "revision" | "lane" | "points">>;
export type RideDraft = Schemas["RideDraftView"];
export type RideRule = Schemas["RideRuleIn"];
export type LaneName = Schemas["Lift"]["lane"];
export type Terms = Schemas["Terms"];
export type Track = Schemas["TrackView"];
export type Take = Schemas["TakeView"];
export type Arrangement = Schemas["ArrangementView"];
export type Way = Schemas["Arrange"]["way"];
export type Rule = Schemas["RuleView"];
export type RuleChange = Schemas["RuleIn"];
export type Card = Schemas["CardView"];
export type Job = Schemas["JobView"];
export type Loose = Schemas["LooseViews"];
export type Draft = Schemas["DraftView"];
export type Figures = Schemas["FiguresView"];
export type BeforeAfter = Schemas["BeforeAfter"];
export type Distance = Schemas["DistanceView"];
export type DistancePhrase = Schemas["DistancePhrase"];
export type DuckDraft = Schemas["DuckDraftView"];
export type DuckRule = { [name in keyof Required<Schemas["DuckIn"]>]: NonNullable<Schemas["DuckIn"][name]> };
export type SlowDraft = Schemas["SlowDraftView"];
export type SlowRule = { [name in keyof Required<Schemas["SlowIn"]>]: NonNullable<Schemas["SlowIn"][name]> };
export type Load = Schemas["LoadView"];
export type LoadFigures = Schemas["LoadFiguresView"];
export type LoadPhrase = Schemas["LoadPhrase"];
export type LoadChange = Partial<Omit<Schemas["LoadChange"], "revision">>;
export type Pass = Schemas["PassView"];
export type PassDraft = Schemas["PassDraftView"];
export type HowWritten = Required<Schemas["HowWritten"]>;
export type RenderRequest = Schemas["RenderRequest"];

const session = (id: string) => ({ params: { path: { session_id: id } } });
const track = (id: string) => ({ params: { path: { track_id: id } } });
const keyed = (id: string, key: string) => ({ params: { path: { track_id: id }, query: { key } } });
const ofTake = (take?: number) => (take === undefined ? "" : `&take=${take}`);
/** The sound of a track's take, as its key tells it from any other. */
interface Sound {
  track: string;
  key: string;
  take?: number;
}
const stretch = ({ key, take }: Sound, start: number, count: number, rate: number) =>
  `key=${key}&start=${start}&count=${count}&rate=${rate}${ofTake(take)}`;
const pass = (id: string) => ({ params: { path: { pass_id: id } } });
const job = (id: string) => ({ params: { path: { job_id: id } } });

export const api = {
  cards: () => take(client.GET("/api/sessions")).then((answer) => answer.items),
  createSession: (name: string) => take(client.POST("/api/sessions", { body: { name } })),
  /** A session with the clips and marks of the ``first`` track and few enough others, or of one track ``only``. */
  session: (id: string, which: { first?: string; only?: string }) =>
    take(client.GET("/api/sessions/{session_id}", { params: { path: { session_id: id }, query: which } })),
  changeSession: (id: string, revision: number, change: { name?: string; rule?: RuleChange }) =>
    take(client.PATCH("/api/sessions/{session_id}", { ...session(id), body: { revision, ...change } })),
  deleteSession: (id: string) => take(client.DELETE("/api/sessions/{session_id}", session(id))),
  undo: (id: string, revision: number) =>
    take(client.POST("/api/sessions/{session_id}/undo", { ...session(id), body: { revision } })),
  redo: (id: string, revision: number) =>
    take(client.POST("/api/sessions/{session_id}/redo", { ...session(id), body: { revision } })),
  undoToWhole: (id: string) => take(client.POST("/api/sessions/{session_id}/undo-to-whole", session(id))),
  /** Where a session can be had as a file, row for row. */
  rowsAddress: (id: string) => `/api/sessions/${id}/rows`,
  changeTrack: (id: string, revision: number, change: Omit<Schemas["TrackChange"], "revision">) =>
    take(client.PATCH("/api/tracks/{track_id}", { ...track(id), body: { revision, ...change } })),
  revision: (id: string) => take(client.GET("/api/sessions/{session_id}/revision", session(id))),
  duplicateTrack: (id: string, revision: number) =>
    take(client.POST("/api/tracks/{track_id}/copies", { ...track(id), body: { revision } })),
  removeTrack: (id: string, revision: number, instead?: string) =>
    take(client.DELETE("/api/tracks/{track_id}", { params: { path: { track_id: id }, query: { revision, instead } } })),
  followTrack: (id: string, revision: number, how: { leader?: string; together?: boolean }) =>
    take(client.POST("/api/tracks/{track_id}/follow", { ...track(id), body: { revision, together: false, ...how } })),
  gain: (id: string, revision: number, clips: string[], change: { by?: number; to?: number }) =>
    take(client.POST("/api/tracks/{track_id}/gain", { ...track(id), body: { revision, clips, ...change } })),
  flag: (id: string, revision: number, clips: string[], flag: Schemas["FlagChange"]["flag"], on: boolean) =>
    take(client.POST("/api/tracks/{track_id}/flag", { ...track(id), body: { revision, clips, flag, on } })),
  label: (id: string, revision: number, clip: string, label: string) =>
    take(client.POST("/api/tracks/{track_id}/label", { ...track(id), body: { revision, clip, label } })),
  cut: (id: string, revision: number, at: number) =>
    take(client.POST("/api/tracks/{track_id}/cut", { ...track(id), body: { revision, at } })),
  join: (id: string, revision: number, clips: string[]) =>
    take(client.POST("/api/tracks/{track_id}/join", { ...track(id), body: { revision, clips } })),
  border: (id: string, revision: number, clip: string, at: number) =>
    take(client.POST("/api/tracks/{track_id}/border", { ...track(id), body: { revision, clip, at } })),
  moveClips: (id: string, body: Pick<Schemas["ClipMove"], "revision" | "clips"> & Partial<Schemas["ClipMove"]>) =>
    take(client.POST("/api/tracks/{track_id}/move", { ...track(id), body: { by: 0, ...body } })),
  pasteClips: (id: string, body: Schemas["ClipCopy"]) =>
    take(client.POST("/api/tracks/{track_id}/paste", { ...track(id), body })),
  takeOut: (id: string, revision: number, clips: string[]) =>
    take(client.POST("/api/tracks/{track_id}/take-out", { ...track(id), body: { revision, clips } })),
  closeGap: (id: string, revision: number, clip: string) =>
    take(client.POST("/api/tracks/{track_id}/close-gap", { ...track(id), body: { revision, clip } })),
  bringHome: (id: string, revision: number, clips: string[]) =>
    take(client.POST("/api/tracks/{track_id}/home", { ...track(id), body: { revision, clips } })),
  trimEnd: (id: string, body: Schemas["ClipTrim"]) =>
    take(client.POST("/api/tracks/{track_id}/trim-ends", { ...track(id), body })),
  takes: (id: string) => take(client.GET("/api/tracks/{track_id}/takes", track(id))).then((answer) => answer.items),
  hearTake: (id: string, revision: number, number: number) =>
    take(client.POST("/api/tracks/{track_id}/takes/hear", { ...track(id), body: { revision, take: number } })),
  matchTakes: (id: string, revision: number) =>
    take(client.POST("/api/tracks/{track_id}/takes/match", { ...track(id), body: { revision } })),
  chooseTake: (id: string, revision: number, clip: string, number: number) =>
    take(client.POST("/api/tracks/{track_id}/takes/choose", { ...track(id), body: { revision, clip, take: number } })),
  renameTake: (id: string, revision: number, number: number, name: string) =>
    take(
      client.PATCH("/api/tracks/{track_id}/takes/{take}", {
        params: { path: { track_id: id, take: number } },
        body: { revision, name },
      }),
    ),
  removeTake: (id: string, revision: number, number: number) =>
    take(
      client.DELETE("/api/tracks/{track_id}/takes/{take}", {
        params: { path: { track_id: id, take: number }, query: { revision } },
      }),
    ),
  arrangement: (id: string, tracks: string[]) =>
    take(
      client.GET("/api/sessions/{session_id}/arrangement", {
        params: { path: { session_id: id }, query: { tracks: tracks.join(",") } },
      }),
    ),
  arrange: (id: string, body: Schemas["Arrange"]) =>
    take(client.POST("/api/sessions/{session_id}/arrange", { ...session(id), body })),
  draft: (id: string, clips: string[] | undefined, rule?: RuleChange, peaks = false) =>
    take(client.POST("/api/tracks/{track_id}/draft", { ...track(id), body: { clips, rule, peaks } })),
  acceptDraft: (id: string, body: Schemas["DraftAccept"]) =>
    take(client.POST("/api/tracks/{track_id}/draft/accept", { ...track(id), body })),
  dipRule: (id: string, revision: number, kind: Schemas["DipRuleChange"]["kind"], rule: DipRuleChange) =>
    take(client.POST("/api/tracks/{track_id}/details/rule", { ...track(id), body: { revision, kind, rule } })),
  dipTrial: (id: string, rules: Record<string, DipRuleChange>) =>
    take(client.POST("/api/tracks/{track_id}/details/trial", { ...track(id), body: { rules } })),
  depth: (id: string, revision: number, marks: string[], change: Omit<Schemas["DepthChange"], "revision" | "marks">) =>
    take(client.POST("/api/tracks/{track_id}/details/depth", { ...track(id), body: { revision, marks, ...change } })),
  detail: (id: string, body: Schemas["DetailChange"]) =>
    take(client.POST("/api/tracks/{track_id}/details/change", { ...track(id), body })),
  dipEdges: (id: string, body: Schemas["DipEdges"]) =>
    take(client.POST("/api/tracks/{track_id}/details/edges", { ...track(id), body })),
  correctMarks: (id: string, body: Schemas["Correction"]) =>
    take(client.POST("/api/tracks/{track_id}/details/correct", { ...track(id), body })),
  makeMark: (id: string, body: Schemas["NewMark"]) =>
    take(client.POST("/api/tracks/{track_id}/details/make", { ...track(id), body })),
  resetMarks: (id: string, revision: number, marks: string[]) =>
    take(client.POST("/api/tracks/{track_id}/details/reset", { ...track(id), body: { revision, marks } })),
  findPhrases: (id: string, revision: number) =>
    take(client.POST("/api/tracks/{track_id}/phrases/find", { ...track(id), body: { revision } })),
  findAgain: (id: string, revision: number) =>
    take(client.POST("/api/tracks/{track_id}/details/find", { ...track(id), body: { revision } })),
  inside: (id: string, key: string, signal?: AbortSignal) =>
    take(client.GET("/api/tracks/{track_id}/ride/inside", { ...keyed(id, key), signal })),
  rideDraft: (id: string, body: Schemas["RideDraftRequest"]) =>
    take(client.POST("/api/tracks/{track_id}/ride/draft", { ...track(id), body })),
  acceptRide: (id: string, body: Schemas["RideDraftAccept"]) =>
    take(client.POST("/api/tracks/{track_id}/ride/draft/accept", { ...track(id), body })),
  lift: (id: string, body: Schemas["Lift"]) =>
    take(client.POST("/api/tracks/{track_id}/lanes/lift", { ...track(id), body })),
  putPoint: (id: string, body: Schemas["NewPoint"]) =>
    take(client.POST("/api/tracks/{track_id}/lanes/point", { ...track(id), body })),
  changePoints: (id: string, body: PointsChange & Pick<Schemas["PointsChange"], "revision" | "lane" | "points">) =>
    take(
      client.POST("/api/tracks/{track_id}/lanes/points", {
        ...track(id),
        body: { seconds: 0, by: 0, gone: false, ...body },
      }),
    ),
  changeRange: (id: string, body: Schemas["RangeChange"]) =>
    take(client.POST("/api/tracks/{track_id}/lanes/range", { ...track(id), body })),
  drawLine: (id: string, body: Schemas["DrawnLine"]) =>
    take(client.POST("/api/tracks/{track_id}/lanes/draw", { ...track(id), body })),
  pasteRange: (id: string, body: Schemas["Paste"]) =>
    take(client.POST("/api/tracks/{track_id}/lanes/paste", { ...track(id), body })),
  clearLane: (id: string, revision: number, lane: LaneName) =>
    take(client.POST("/api/tracks/{track_id}/lanes/clear", { ...track(id), body: { revision, lane } })),
  trim: (id: string, revision: number, change: { db?: number; off?: boolean }) =>
    take(client.POST("/api/tracks/{track_id}/lanes/trim", { ...track(id), body: { revision, ...change } })),
  moveLane: (id: string, body: Schemas["HandOver"]) =>
    take(client.POST("/api/tracks/{track_id}/lanes/move", { ...track(id), body })),
  scaleRange: (id: string, body: Schemas["Scale"]) =>
    take(client.POST("/api/tracks/{track_id}/lanes/scale", { ...track(id), body })),
  makeBorders: (id: string, body: Schemas["Borders"]) =>
    take(client.POST("/api/tracks/{track_id}/lanes/borders", { ...track(id), body })),
  workingRange: (id: string, revision: number, low: number, high: number) =>
    take(client.POST("/api/tracks/{track_id}/lanes/working-range", { ...track(id), body: { revision, low, high } })),
  laneFile: (id: string, lane: LaneName, ending: string) => `/api/tracks/${id}/lanes/${lane}.${ending}`,
  bringCurveIn: (id: string, revision: number, lane: LaneName, file: File) =>
    send<Changed>(
      `/api/tracks/${id}/lanes/file?${new URLSearchParams({ revision: String(revision), lane, name: file.name })}`,
      file,
    ),
  beginPass: (id: string, body: Omit<Schemas["NewPass"], keyof HowWritten> & HowWritten) =>
    take(client.POST("/api/tracks/{track_id}/passes", { ...track(id), body })),
  /** Where pieces of a pass are taken down: pairs of seconds and dB, from pair number ``first`` on. */
  passPieces: (id: string, first: number) => `/api/passes/${id}/pieces?first=${first}`,
  takeDown: (id: string, first: number, pairs: Float64Array<ArrayBuffer>) =>
    send<{ count: number }>(api.passPieces(id, first), pairs).then((answer) => answer.count),
  endPass: (id: string) =>
    take(client.POST("/api/passes/{pass_id}/end", pass(id))).then((answer): Pass | undefined => answer.items[0]),
  passDraft: (id: string, how: HowWritten) =>
    take(client.POST("/api/passes/{pass_id}/draft", { ...pass(id), body: how })),
  keepPass: (id: string, body: Schemas["KeepPass"]) =>
    take(client.POST("/api/passes/{pass_id}/keep", { ...pass(id), body })),
  dropPass: (id: string, revision: number) =>
    take(client.POST("/api/passes/{pass_id}/drop", { ...pass(id), body: { revision } })),
  /** What comes from the stand-in, until it is stopped. */
  listenToHand: async (hear: (bytes: Uint8Array) => void, signal: AbortSignal) => {
    const response = await fetch("/api/hand", { signal });
    if (!response.ok || !response.body) throw new Problem(response.status, UNREACHABLE);
    const reader = response.body.getReader();
    for (;;) {
      const { done, value } = await reader.read();
      if (done) return;
      hear(value);
    }
  },
  showHand: (shown: object) =>
    fetch("/api/hand/shown", { method: "POST", body: JSON.stringify(shown) }).catch(() => undefined),
  distance: (id: string, of: { track?: string; revision: number }, signal?: AbortSignal) =>
    take(
      client.GET("/api/sessions/{session_id}/distance", {
        signal,
        params: { path: { session_id: id }, query: of },
      }),
    ),
  distanceCourse: (id: string, { track, revision }: { track?: string; revision: number }, signal?: AbortSignal) =>
    bytes(`/api/sessions/${id}/distance/course?revision=${revision}${track ? `&track=${track}` : ""}`, signal).then(
      (b) => new Float32Array(b),
    ),
  duckDraft: (id: string, rule: Partial<DuckRule>) =>
    take(client.POST("/api/tracks/{track_id}/duck/draft", { ...track(id), body: { rule } })),
  acceptDuck: (id: string, body: Schemas["DuckAccept"]) =>
    take(client.POST("/api/tracks/{track_id}/duck/draft/accept", { ...track(id), body })),
  lockBed: (id: string, body: Schemas["LockSpan"]) =>
    take(client.POST("/api/tracks/{track_id}/duck/lock", { ...track(id), body })),
  slowDraft: (id: string, rule: Partial<SlowRule>) =>
    take(client.POST("/api/tracks/{track_id}/slow/draft", { ...track(id), body: { rule } })),
  acceptSlow: (id: string, body: Schemas["SlowAccept"]) =>
    take(client.POST("/api/tracks/{track_id}/slow/draft/accept", { ...track(id), body })),
  load: (id: string, revision: number, signal?: AbortSignal) =>
    take(
      client.GET("/api/tracks/{track_id}/load", {
        signal,
        params: { path: { track_id: id }, query: { revision } },
      }),
    ),
  loadCourse: (id: string, revision: number, signal?: AbortSignal) =>
    bytes(`/api/tracks/${id}/load/course?revision=${revision}`, signal).then((b) => new Float32Array(b)),
  changeLoad: (id: string, revision: number, change: LoadChange) =>
    take(
      client.POST("/api/tracks/{track_id}/load", {
        ...track(id),
        body: { revision, same_threshold: false, ...change },
      }),
    ),
  figures: (id: string, key: string, signal?: AbortSignal) =>
    take(client.GET("/api/tracks/{track_id}/figures", { ...keyed(id, key), signal })),
  render: (id: string, body: RenderRequest) =>
    take(client.POST("/api/tracks/{track_id}/render", { ...track(id), body })),

  mix: (id: string, body: Schemas["MixRequest"]) =>
    take(client.POST("/api/sessions/{session_id}/mix", { ...session(id), body })),

  soundFormats: () => take(client.GET("/api/formats/sound")).then((answer) => answer.items),

  rules: () => take(client.GET("/api/rules")).then((answer) => answer.items),
  keepRule: (body: Schemas["RuleToKeep"]) => take(client.POST("/api/rules", { body })),
  bringInRule: (name: string, text: string) => take(client.POST("/api/rules/bring-in", { body: { name, text } })),
  deleteRule: (id: string) => take(client.DELETE("/api/rules/{rule_id}", { params: { path: { rule_id: id } } })),
  applyRule: (id: string, revision: number, rule: string) =>
    take(client.POST("/api/sessions/{session_id}/rule", { ...session(id), body: { revision, rule } })),
  /** Where a rule can be had as a file. */
  ruleAddress: (id: string) => `/api/rules/${id}/file`,

  loose: () => take(client.GET("/api/loose")),
  bringBack: (hashes: string[]) => take(client.POST("/api/loose/bring-back", { body: { hashes } })),
  deleteLoose: (hashes: string[]) => take(client.POST("/api/loose/delete", { body: { hashes } })),

  jobs: (id: string) => take(client.GET("/api/sessions/{session_id}/jobs", session(id))).then((answer) => answer.items),
  cancelJob: (id: string) => take(client.POST("/api/jobs/{job_id}/cancel", job(id))),
  chooseInJob: (id: string, choice: number) =>
    take(client.POST("/api/jobs/{job_id}/choice", { ...job(id), body: { choice } })),
  dismissJob: (id: string) => take(client.DELETE("/api/jobs/{job_id}", job(id))),
  renderedFile: (id: string) => `/api/jobs/${id}/file`,

  /** The gain of some layers: of the state that has a key, or of a take as it is now. */
  gainPoints: (id: string, layers: string[], which: { key: string } | { take: number }) =>
    bytes(`/api/tracks/${id}/gain?layers=${layers.join(",")}&${new URLSearchParams(Object.entries(which))}`).then(
      (b) => new Float64Array(b),
    ),
  /** All that is heard of the gain that has a key, also what is ``drawn``; ``layers`` are those that are on. */
  heard: (id: string, key: string, layers: string, drawn: boolean, signal?: AbortSignal): Promise<Answered> =>
    bytes(`/api/tracks/${id}/heard?key=${key}&layers=${layers}${drawn ? "&drawn" : ""}`, signal).then(unpack),
  onsets: (id: string, key: string, signal?: AbortSignal) =>
    bytes(`/api/tracks/${id}/onsets?key=${key}`, signal).then((b) => new Float64Array(b)),
  trace: (id: string, signal?: AbortSignal) =>
    bytes(`/api/tracks/${id}/trace`, signal).then((b) => new Float32Array(b)),
  waveTile: ({ track, key, take }: Sound, level: number, index: number) =>
    bytes(`/api/tracks/${track}/wave/${level}/${index}?key=${key}${ofTake(take)}`).then((b) => new Float32Array(b)),
  samples: (sound: Sound, start: number, count: number, rate: number, signal?: AbortSignal) =>
    bytes(`/api/tracks/${sound.track}/samples?${stretch(sound, start, count, rate)}`, signal).then(
      (b) => new Float32Array(b),
    ),
  /** What the compressor does, dB: pairs before and after gain. */
  reduction: (sound: Sound, start: number, count: number, rate: number, signal?: AbortSignal) =>
    bytes(`/api/tracks/${sound.track}/reduction?${stretch(sound, start, count, rate)}`, signal).then(
      (b) => new Float32Array(b),
    ),

  /** Upload a file; its progress is reported as a share of its bytes. */
  upload: (id: string, file: File, onProgress: (share: number) => void, signal: AbortSignal) =>
    upload<Job>(`/api/sessions/${id}/uploads?name=${encodeURIComponent(file.name)}`, file, onProgress, signal),
};
