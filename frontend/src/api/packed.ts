/** Answers of many numbers, packed into bytes. */
import type { components } from "./schema";

type Schemas = components["schemas"];

/** Gains as pairs of samples and dB - the sum, the dips, curve, ride and trim -, the clips' ways as pairs of samples, the meter's pairs. */
export interface Answered {
  gains: Float64Array[];
  meter: Float32Array;
  /** Lanes and passes, where they were asked for. */
  drawn: Drawn | null;
}
export interface Drawn {
  lanes: Schemas["RideView"];
  passes: Schemas["PassView"][];
}

const GAINS = 6;
const PARTS = 8;

/** Arrays that came in one answer: how many values each has, then all of them. */
export function unpack(data: ArrayBuffer): Answered {
  const counts = [...new Uint32Array(data, 0, PARTS)];
  let at = 4 * counts.length;
  const gains = counts.slice(0, GAINS).map((count) => {
    const gain = new Float64Array(data, at, count);
    at += gain.byteLength;
    return gain;
  });
  const meter = new Float32Array(data, at, counts[GAINS]);
  const text = new TextDecoder().decode(new Uint8Array(data, at + meter.byteLength));
  return { gains, meter, drawn: text ? (JSON.parse(text) as Drawn) : null };
}
