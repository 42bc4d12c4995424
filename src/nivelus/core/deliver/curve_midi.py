"""Gain curves as Standard MIDI Files: control change 7 (volume) or 11 (expression), 14-bit where there is a fine part.

Two mappings from value to gain:

- *ours*, written and known again by a text event: 0 is silence, 1 ... 16383 are LOW ... HIGH dB, linear in dB, so a step
  is 0.0044 dB. Time runs in ticks of 1/1920 s. A moving gain has an event every 10 ms and at each of its points.
- *volume*, for files from elsewhere: 40 log10(value / most) dB, as the General MIDI guidelines have it for control
  change 7 (MIDI Manufacturers Association, General MIDI 1 Developer Guidelines; from memory), so full is 0 dB.

An event that comes long after the one before it is a step: up to there the gain was held.
"""

from __future__ import annotations

import io
from collections import Counter

import mido
import numpy as np

from nivelus.core.errors import CurveFileError
from nivelus.core.gain.curve import SILENCE
from nivelus.core.gain.curves import Curve, Shape, curve_of, flatten

LOW, HIGH = -60.0, 12.0
"""dB of the values 1 and 16383 in our own mapping."""
MOST = 16383
BEAT, TICKS = 500_000, 960
"""Microseconds and ticks of a beat."""
STEP = 0.01
"""Seconds between the events of a gain that moves."""
APART = 0.1
"""Seconds after which an event is a step and not part of a move."""
MAPPING = f"gain: 0 is silence, 1 to {MOST} are {LOW:g} to {HIGH:+g} dB, linear in dB"
CONTROLS = (7, 11)
LARGEST = 16 << 20


def write_midi(curve: Curve, control: int = 7) -> bytes:
    """A curve as a file of one track. Gains outside LOW ... HIGH are brought to these; what is silent is 0."""
    straight = flatten(curve)
    at: list[float] = [0.0]
    for start, end, a, b in zip(straight.at, straight.at[1:], straight.db, straight.db[1:], strict=False):
        at.append(float(start))
        if a != b:
            count = int(np.ceil((end - start) / STEP))
            at += (start + (end - start) * np.arange(1, count) / count).tolist()
    at += straight.at[-1:].tolist()
    times = np.maximum(np.sort(at), 0.0)
    ticks, first = np.unique(np.round(times * TICKS * 1e6 / BEAT).astype(np.int64)[::-1], return_index=True)
    # of what falls on one tick the last counts, with the gain of its own time
    db = np.asarray(curve(times[::-1][first]), np.float64)
    values = np.round(1 + (np.clip(db, LOW, HIGH) - LOW) / (HIGH - LOW) * (MOST - 1)).astype(int)
    values[db <= SILENCE] = 0
    track = mido.MidiTrack([mido.MetaMessage("text", text=MAPPING), mido.MetaMessage("set_tempo", tempo=BEAT)])
    for wait, value in zip(np.diff(ticks, prepend=0).tolist(), values.tolist(), strict=True):
        track.append(mido.Message("control_change", control=control, value=value >> 7, time=wait))
        track.append(mido.Message("control_change", control=control + 32, value=value & 127))
    out = io.BytesIO()
    mido.MidiFile(type=0, ticks_per_beat=TICKS, tracks=[track]).save(file=out)
    return out.getvalue()


def read_midi(data: bytes) -> Curve:
    """A curve from the volume or expression that has most events in a file.

    Raises
    ------
    CurveFileError
        If it is no such file, or has no volume and no expression in it.
    """
    if len(data) > LARGEST:
        raise CurveFileError("This MIDI file is larger than 16 MB.")
    try:
        messages = list(mido.MidiFile(file=io.BytesIO(data)))
    except Exception as error:
        # the reader has no error of its own: whatever a broken file makes of it means the same
        raise CurveFileError("This is no Standard MIDI File that can be read.") from error
    events: dict[tuple[int, int], list[tuple[float, int, bool]]] = {}
    ours, now = False, 0.0
    for message in messages:
        now += message.time
        if message.type == "text" and message.text == MAPPING:
            ours = True
        if message.type == "control_change" and message.control % 32 in CONTROLS and message.control < 64:
            key = (message.channel, message.control % 32)
            events.setdefault(key, []).append((now, message.value, message.control >= 32))
    if not events:
        raise CurveFileError("This MIDI file holds no volume and no expression: control change 7 or 11.")
    chosen = Counter({key: len(found) for key, found in events.items()}).most_common(1)[0][0]
    return _curve(events[chosen], ours)


def _curve(events: list[tuple[float, int, bool]], ours: bool) -> Curve:
    """The curve of coarse and fine parts in order of time."""
    has_fine = any(fine for _, _, fine in events)
    values: list[tuple[float, int]] = []
    coarse, fine = 0, 0
    for at, value, is_fine in events:
        # a new coarse part begins anew, a fine one belongs to the coarse one before it
        coarse, fine = (coarse, value) if is_fine else (value, 0)
        if values and values[-1][0] == at:
            values.pop()
        values.append((at, coarse << 7 | fine))
    most = MOST if has_fine else 127 << 7
    points: list[tuple[float, float, Shape]] = []
    for i, (at, value) in enumerate(values):
        following = values[i + 1] if i + 1 < len(values) else (at, value)
        shape = Shape.HOLD if following[0] - at > APART and following[1] != value else Shape.LINEAR
        points.append((at, _gain(value, most, ours), shape))
    return curve_of(points)


def _gain(value: int, most: int, ours: bool) -> float:
    if value == 0:
        return float("-inf")
    return LOW + (value - 1) / (MOST - 1) * (HIGH - LOW) if ours else float(40 * np.log10(value / most))
