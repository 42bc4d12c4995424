/**
 * A small server for the model of the page: sessions of tracks of clips that have a gain, a lock and a place, with a history, drafts
 * with stamps, and gains with keys. What is asked is done when it arrives; the test says when each answer comes, or gets lost.
 */
import { Problem } from "../parts/problem";
import { whole } from "./answers.testing";

export const CLIPS = 3;
const CLIP_SECONDS = 10;
export const RATE = 1000;

interface Held {
  id: string;
  gain: number;
  locked: boolean;
}
type Tracks = Record<string, Held[]>;
interface Kept {
  revision: number;
  tracks: Tracks;
  undo: Tracks[];
  redo: Tracks[];
}

const keyOf = (clips: Held[]) => JSON.stringify(clips.map((clip) => clip.gain));
const copied = (tracks: Tracks): Tracks =>
  Object.fromEntries(Object.entries(tracks).map(([id, clips]) => [id, clips.map((clip) => ({ ...clip }))]));

export class Server {
  readonly sessions = new Map<string, Kept>();
  /** Answers that are on their way. */
  readonly late: { come: () => void; lose: () => void; what: string }[] = [];
  /** Whether the next edit is found to be of a state that another window has changed. */
  stale = false;
  isChangedElsewhere = false;
  /** What the page was told last of each session. */
  readonly answered = new Map<string, Tracks>();

  add(id: string) {
    const clips = (track: string) =>
      Array.from({ length: CLIPS }, (_, i) => ({ id: `${track}.${i}`, gain: 0, locked: false }));
    const tracks = { [`${id}-x`]: clips(`${id}-x`), [`${id}-y`]: clips(`${id}-y`) };
    this.sessions.set(id, { revision: 1, tracks, undo: [], redo: [] });
  }

  private sessionOf(track: string): [string, Kept] {
    for (const [id, kept] of this.sessions) if (track in kept.tracks) return [id, kept];
    throw new Problem(404, "There is no such track.");
  }

  whole(id: string): object {
    const kept = this.sessions.get(id)!;
    return whole(id, kept.revision, Object.keys(kept.tracks), {
      rule: { unit: "loudness", target: -18, tolerance: 1.5 },
      tracks: Object.entries(kept.tracks).map(([track, clips]) => ({
        id: track,
        kind: "voice",
        fader: 0,
        target: -18,
        gain_key: keyOf(clips),
        timeline: { missing: false, key: track, sample_rate: RATE, duration: CLIPS * CLIP_SECONDS },
      })),
      clips: Object.entries(kept.tracks).flatMap(([track, clips]) => clips.map((clip, i) => this.view(track, clip, i))),
      undo: kept.undo.length ? "a step" : null,
      redo: kept.redo.length ? "a step" : null,
      label: "",
      told: "",
    });
  }

  private view(track: string, { id, gain, locked }: Held, i: number) {
    const [start, end] = [i * CLIP_SECONDS, (i + 1) * CLIP_SECONDS];
    return {
      id,
      track,
      gain,
      locked,
      start,
      end,
      phrase_start: start,
      phrase_end: end,
      after: -20 + gain,
      before: -20,
    };
  }

  /** Do something now, and have its answer come later. */
  private later<T>(what: string, work: () => T, told?: (value: T) => void): Promise<T> {
    let made: { value: T } | { error: unknown };
    try {
      made = { value: work() };
    } catch (error) {
      made = { error };
    }
    return new Promise<T>((resolve, reject) => {
      this.late.push({
        what,
        come: () => {
          if ("error" in made) return reject(made.error);
          told?.(made.value);
          resolve(made.value);
        },
        lose: () => reject(new Problem(0, "The program does not answer.")),
      });
    });
  }

  private edited(what: string, id: string, revision: number, work: (kept: Kept) => void): Promise<object> {
    let then: Tracks;
    const edited = () => {
      const kept = this.sessions.get(id)!;
      if (this.stale) {
        this.stale = false;
        this.fromElsewhere(id);
      }
      if (kept.revision !== revision) throw new Problem(409, "Another window was quicker.");
      work(kept);
      kept.revision++;
      then = copied(kept.tracks);
      return this.whole(id);
    };
    return this.later(what, edited, () => this.answered.set(id, then));
  }

  private change(kept: Kept, work: (tracks: Tracks) => void) {
    kept.undo.push(copied(kept.tracks));
    kept.redo = [];
    kept.tracks = copied(kept.tracks);
    work(kept.tracks);
  }

  /** Another window does something. */
  fromElsewhere(id: string) {
    this.isChangedElsewhere = true;
    const kept = this.sessions.get(id)!;
    const track = Object.keys(kept.tracks)[0]!;
    this.change(kept, (tracks) => {
      tracks[track]![0]!.gain -= 0.5;
    });
    kept.revision++;
  }

  private drafted(clips: Held[]) {
    const items = clips.filter((clip) => !clip.locked).map(({ id, gain }) => ({ clip: id, gain: -Math.abs(gain) - 1 }));
    return { items, stamp: JSON.stringify(items) };
  }

  readonly api = {
    session: (id: string) => {
      const then = copied(this.sessions.get(id)!.tracks);
      return this.later(
        "session",
        () => this.whole(id),
        () => this.answered.set(id, then),
      );
    },
    gain: (track: string, revision: number, ids: string[], { by, to }: { by?: number; to?: number }) =>
      this.edited("gain", this.sessionOf(track)[0], revision, (kept) => {
        const free = kept.tracks[track]!.filter((clip) => ids.includes(clip.id) && !clip.locked);
        if (!free.length) throw new Problem(422, "What is selected is locked.");
        this.change(kept, (tracks) => {
          for (const clip of tracks[track]!)
            if (ids.includes(clip.id) && !clip.locked)
              clip.gain = Math.round(Math.min(Math.max(to ?? clip.gain + by!, -60), 24) * 100) / 100;
        });
      }),
    flag: (track: string, revision: number, ids: string[], flag: "locked", on: boolean) =>
      this.edited("flag", this.sessionOf(track)[0], revision, (kept) =>
        this.change(kept, (tracks) => {
          for (const clip of tracks[track]!) if (ids.includes(clip.id)) clip[flag] = on;
        }),
      ),
    undo: (id: string, revision: number) =>
      this.edited("undo", id, revision, (kept) => {
        kept.redo.push(kept.tracks);
        kept.tracks = kept.undo.pop()!;
      }),
    redo: (id: string, revision: number) =>
      this.edited("redo", id, revision, (kept) => {
        kept.undo.push(kept.tracks);
        kept.tracks = kept.redo.pop()!;
      }),
    draft: (track: string) => this.later("draft", () => this.drafted(this.sessionOf(track)[1].tracks[track]!)),
    acceptDraft: (track: string, { revision, stamp }: { revision: number; stamp: string }) =>
      this.edited("accept", this.sessionOf(track)[0], revision, (kept) => {
        const draft = this.drafted(kept.tracks[track]!);
        if (draft.stamp !== stamp) throw new Problem(409, "The draft has changed: look again.");
        const gains = new Map(draft.items.map((item) => [item.clip, item.gain]));
        this.change(kept, (tracks) => {
          for (const clip of tracks[track]!) clip.gain = gains.get(clip.id) ?? clip.gain;
        });
      }),
    heard: (track: string, key: string) =>
      this.later("heard", () => {
        const clips = this.sessionOf(track)[1].tracks[track]!;
        if (keyOf(clips) !== key) throw new Problem(409, "This track was changed.");
        const none = new Float64Array(0);
        return { gains: [gainOf(clips), none, none, none, none, none], meter: new Float32Array(0), drawn: null };
      }),
    gainPoints: (track: string, _: string[], { key }: { key: string }) =>
      this.later("gain of another", () => {
        const clips = this.sessionOf(track)[1].tracks[track]!;
        if (keyOf(clips) !== key) throw new Problem(409, "This track was changed.");
        return gainOf(clips);
      }),
    trace: () => this.later("trace", () => new Float32Array(0)),
    onsets: () => this.later("onsets", () => new Float64Array(0)),
  };
}

/** The gain of clips as points: samples and dB. */
function gainOf(clips: Held[]): Float64Array {
  const frames = CLIP_SECONDS * RATE;
  return Float64Array.from(clips.flatMap(({ gain }, i) => [i * frames, gain, (i + 1) * frames - 1, gain]));
}

export const middleOf = (clip: number) => (clip + 0.5) * CLIP_SECONDS;
