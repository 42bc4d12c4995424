/** Lets the person choose a file, when it is clicked by its ref: by a menu, a button or a key. */
import type { Ref } from "react";

interface Props {
  ref: Ref<HTMLInputElement>;
  label: string;
  accept: string;
  onFile: (file: File) => void;
}

export function FilePicker({ ref, label, accept, onFile }: Props) {
  return (
    <input
      ref={ref}
      type="file"
      hidden
      accept={accept}
      aria-label={label}
      onChange={(event) => {
        const chosen = event.currentTarget.files?.[0];
        // the same file may be chosen again
        event.currentTarget.value = "";
        if (chosen) onFile(chosen);
      }}
    />
  );
}
