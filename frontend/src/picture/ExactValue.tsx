/** The exact gain and the words of a phrase, typed. Opened by a double click. */
import { Button, Group, Modal, NumberInput, Stack, TextInput } from "@mantine/core";
import { useEffect, useState } from "react";
import { api } from "../api/client";
import { changeGain, focused, focusedClips } from "../model/actions";
import { edit } from "../model/session";
import { useView } from "../model/view";

export function ExactValue() {
  const id = useView((s) => s.exact);
  const clip = focusedClips().find((c) => c.id === id);
  const [gain, setGain] = useState<string | number>(0);
  const [words, setWords] = useState("");
  // biome-ignore lint/correctness/useExhaustiveDependencies: the fields are filled when the dialog opens, not while typing
  useEffect(() => {
    if (!clip) return;
    setGain(clip.gain);
    setWords(clip.label);
  }, [id]);

  const close = () => useView.setState({ exact: null });
  const apply = async () => {
    const track = focused();
    if (!clip || !track) return close();
    const value = Number(gain);
    close();
    if (words.trim() !== clip.label) await edit((revision) => api.label(track.id, revision, clip.id, words));
    if (gain !== "" && Number.isFinite(value) && value !== clip.gain) await changeGain([clip.id], { to: value });
  };

  return (
    <Modal opened={clip !== undefined} onClose={close} title="Phrase" size="sm" centered returnFocus={false}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void apply();
        }}
      >
        <Stack gap="sm">
          <NumberInput
            label="Gain"
            data-autofocus
            value={gain}
            onChange={setGain}
            suffix=" dB"
            decimalScale={2}
            step={0.5}
            min={-60}
            max={24}
            disabled={clip?.locked}
            description={clip?.locked ? "This phrase is locked." : undefined}
          />
          {clip?.after != null && (
            <TextInput label="Words" value={words} onChange={(event) => setWords(event.currentTarget.value)} />
          )}
          <Group justify="flex-end" gap="xs">
            <Button variant="default" onClick={close}>
              Leave it
            </Button>
            <Button type="submit">Set</Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}
