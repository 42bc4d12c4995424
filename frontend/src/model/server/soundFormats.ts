/** The formats of sound files: which of dropped files are sound, and what can be rendered. */
import { useQuery } from "@tanstack/react-query";
import { queries } from "../../api/cache";
import { api, type SoundFormat } from "../../api/client";

const QUERY = { queryKey: ["sound formats"], queryFn: api.soundFormats, staleTime: Number.POSITIVE_INFINITY };
const NONE: SoundFormat[] = [];

/** Ask for the formats as soon as the program is open: they are there before the first file is dropped. */
export const askForFormats = () => void queries.prefetchQuery(QUERY);

/** The formats, once they are known. */
export const soundFormats = () => queries.ensureQueryData(QUERY);

export const useSoundFormats = (): SoundFormat[] => useQuery(QUERY).data ?? NONE;

/** What can be read, in words; what is rare is not named. */
export const inWords = (formats: SoundFormat[]) => formats.flatMap(({ common }) => common).join(", ");

/** Of several files, those that look like sound; a single one is taken as it is, so that it is told what is wrong with it. */
export function soundFiles(files: File[], formats: SoundFormat[]): File[] {
  if (files.length < 2) return files;
  const endings = formats.flatMap((format) => format.endings);
  return files.filter(({ name }) => endings.some((ending) => name.toLowerCase().endsWith(ending)));
}

/** What of dropped files is brought in: those that look like sound; if none does, all of them, to be told what they are. */
export function chosenFiles(files: File[]): File[] {
  const sounds = soundFiles(files, queries.getQueryData<SoundFormat[]>(QUERY.queryKey) ?? NONE);
  return sounds.length > 0 ? sounds : files;
}

/** All ways in which sound is written. */
export const waysOut = (formats: SoundFormat[]) =>
  formats.flatMap(({ name, words, bits }) =>
    bits.map((depth) => ({
      value: `${name}-${depth}`,
      label: `${words[0]}, ${depth === 32 ? "32-bit float" : `${depth} bits`}`,
      format: name,
      bits: depth,
    })),
  );
