/** Where files and folders are dropped or chosen. Whole folders are searched for sound files. */
import { VisuallyHidden } from "@mantine/core";
import { Dropzone } from "@mantine/dropzone";
import type { ReactNode } from "react";
import { chosenFiles, inWords, useSoundFormats } from "../model/server/soundFormats";
import "./DropArea.css";

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

/** Which files can be dropped here. */
export function Readable() {
  const formats = useSoundFormats();
  return formats.length > 0 ? (
    <>{inWords(formats)} and the like. Your files are never changed.</>
  ) : (
    <>Your files are never changed.</>
  );
}
