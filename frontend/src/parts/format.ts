/** Values as they are shown: with sign and unit, times as m:ss.mmm. */
const MINUS = "−";

export const signed = (value: number, digits = 1): string => {
  const text = Math.abs(value).toFixed(digits);
  if (Number(text) === 0) return text;
  return (value < 0 ? MINUS : "+") + text;
};

export const plain = (value: number, digits = 1): string => {
  const text = Math.abs(value).toFixed(digits);
  return (value < 0 && Number(text) !== 0 ? MINUS : "") + text;
};

export const db = (value: number, digits = 1) => `${signed(value, digits)} dB`;

export const time = (seconds: number): string => {
  const whole = Math.max(0, Math.round(seconds * 1000));
  const minutes = Math.floor(whole / 60000);
  return `${minutes}:${((whole % 60000) / 1000).toFixed(3).padStart(6, "0")}`;
};

/** The seconds that somebody has written as a time: 83.5, 1:23.5, or with hours; null for anything else. */
export function readTime(text: string): number | null {
  const parts = text.trim().replace(",", ".").split(":");
  if (parts.length > 3 || !parts.every((part) => /^\d+(\.\d*)?$|^\.\d+$/.test(part.trim()))) return null;
  return parts.reduce((seconds, part) => seconds * 60 + Number(part), 0);
}

export const clock = (seconds: number): string => time(seconds).slice(0, -2);

export const span = (seconds: number): string =>
  seconds < 3600
    ? `${Math.floor(seconds / 60)}:${String(Math.floor(seconds) % 60).padStart(2, "0")} min`
    : `${(seconds / 3600).toFixed(1)} h`;

export const bytes = (size: number): string => {
  if (size >= 1e9) return `${(size / 1e9).toFixed(1)} GB`;
  return size >= 1e6 ? `${(size / 1e6).toFixed(1)} MB` : `${Math.ceil(size / 1e3)} kB`;
};

export const UNIT_NAMES = { loudness: "LUFS", rms: "dBFS RMS", peak: "dBTP" } as const;
export type Unit = keyof typeof UNIT_NAMES;

/** Unit of a target, and of a distance to it. */
export const levelUnit = (unit: string) => UNIT_NAMES[unit as Unit] ?? "dB";
export const distanceUnit = (unit: string) => (unit === "loudness" ? "LU" : "dB");

/** Words as the beginning of a sentence. */
export const capital = (words: string) => words && `${words[0]!.toUpperCase()}${words.slice(1)}`;
