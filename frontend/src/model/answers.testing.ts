/** Answers of the server that hold no more than a test looks at. */

/** A session that is told whole, with tracks that have neither clips nor marks. */
export const whole = (id: string, revision: number, tracks: string[], more: object = {}) =>
  ({
    id,
    revision,
    name: id,
    tracks: tracks.map((track) => ({ id: track })),
    whole: tracks,
    clips: [],
    marks: [],
    mark_columns: {},
    clip_values: {},
    mark_values: {},
    removed: {},
    removed_marks: {},
    ...more,
  }) as never;

/** Let everything run that waits for nothing. */
export const turn = () => new Promise((done) => setTimeout(done));
