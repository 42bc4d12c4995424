/** The one door to Web MIDI: which devices are there, and what they send. */

export interface MidiDoor {
  /** Names of the devices that are there, by id. */
  devices: Map<string, string>;
  close: () => void;
}
export interface MidiEars {
  bytes: (device: string, bytes: Uint8Array) => void;
  /** A device has come, or was pulled out. */
  changed: (devices: Map<string, string>, gone: string | null) => void;
}

/** Whether this browser can do it at all; it takes a page that is on this machine or encrypted. */
export const hasMidi = () => typeof navigator.requestMIDIAccess === "function";

/** Ask for the devices and listen to them. Rejects where the person or the browser refuses. */
export async function openMidi(ears: MidiEars): Promise<MidiDoor> {
  const access = await navigator.requestMIDIAccess();
  const devices = new Map<string, string>();
  const attach = (input: MIDIInput) => {
    devices.set(input.id, input.name ?? "a controller");
    input.onmidimessage = (event) => {
      if (event.data) ears.bytes(input.id, event.data);
    };
  };
  for (const input of access.inputs.values()) attach(input);
  access.onstatechange = (event) => {
    const port = event.port;
    if (port?.type !== "input") return;
    const isGone = port.state === "disconnected";
    if (isGone) devices.delete(port.id);
    else attach(port as MIDIInput);
    ears.changed(devices, isGone ? port.id : null);
  };
  return {
    devices,
    close: () => {
      access.onstatechange = null;
      for (const input of access.inputs.values()) input.onmidimessage = null;
    },
  };
}
