/** Where files and folders are dropped or chosen. Whole folders are searched for sound files. */
import { VisuallyHidden } from "@mantine/core";
import { Dropzone } from "@mantine/dropzone";
import type { ReactNode } from "react";
import "./DropArea.css";

const SOUND = /\.(wav|bwf|rf64|aiff?|aifc|flac|og[ga]|mp3)$/i;

/** Of several files, those that look like sound; a single one is taken as it is, so that it is told what is wrong with it. */
export const soundFiles = (files: File[]) => (files.length > 1 ? files.filter((file) => SOUND.test(file.name)) : files);

/** What of dropped files is brought in: those that look like sound; if none does, all of them, to be told what they are. */
export function chosenFiles(files: File[]): File[] {
  const sounds = soundFiles(files);
  return sounds.length > 0 ? sounds : files;
}

export function DropArea({ onFiles, children }: { onFiles: (files: File[]) => void; children: ReactNode }) {
  return (
    <Dropzone
      onDrop={(files) => onFiles(chosenFiles(files))}
      className="drop"
      // keys have the button in it
      tabIndex={-1}
      p="sm"
      inputProps={{ "aria-label": "Sound files" }}
    >
      {children}
      <VisuallyHidden>
        <button type="button">Choose sound files</button>
      </VisuallyHidden>
    </Dropzone>
  );
}
