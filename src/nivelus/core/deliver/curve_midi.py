"""Gain curves as Standard MIDI Files: control change 7 (volume) or 11 (expression), 14-bit where there is a fine part.

Two mappings from value to gain:

- *ours*, written and known again by a text event: 0 is silence, 1 ... 16383 are LOW ... HIGH dB, linear in dB, so a step
  is 0.0044 dB. Time runs in ticks of 1/1920 s. A moving gain has an event every 10 ms and at each of its points.
- *volume*, for files from elsewhere: 40 log10(value / most) dB, as the General MIDI guidelines have it for control
  change 7 (MIDI Manufacturers Association, General MIDI 1 Developer Guidelines; from memory), so full is 0 dB.

An event that comes long after the one before it is a step: up to there the gain was held.
"""

from __future__ import annotations

import struct
from typing import Any

import numpy as np
import numpy.typing as npt

from nivelus.core.deliver.midi_kernel import COLUMNS, CONTROL, MALFORMED, TEMPO, TEXT, scan_track
from nivelus.core.errors import CurveFileError
from nivelus.core.gain.compiled import SILENCE, FloatArray
from nivelus.core.gain.drawn import Curve, Shape, curve_from, flatten

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
MOST_EVENTS = 2_000_000
Ints = npt.NDArray[np.int64]
_NONE = "This is no Standard MIDI File that can be read."


def write_midi(curve: Curve, control: int = 7) -> bytes:
    """A curve as a file of one track. Gains outside LOW ... HIGH are brought to these; what is silent is 0.

    Raises
    ------
    CurveFileError
        If that took more than MOST_EVENTS events.
    """
    times = _moments(flatten(curve))
    ticks, first = np.unique(np.round(times * TICKS * 1e6 / BEAT).astype(np.int64)[::-1], return_index=True)
    # of what falls on one tick the last counts, with the gain of its own time
    db = np.asarray(curve(times[::-1][first]), np.float64)
    values = np.round(1 + (np.clip(db, LOW, HIGH) - LOW) / (HIGH - LOW) * (MOST - 1)).astype(np.int64)
    values[db <= SILENCE] = 0
    track = (
        _meta(0x01, MAPPING.encode())
        + _meta(0x51, struct.pack(">I", BEAT)[1:])
        + _changes(ticks, values, control)
        + _meta(0x2F, b"")
    )
    head = struct.pack(">4sIHHH", b"MThd", 6, 0, 1, TICKS)
    return head + struct.pack(">4sI", b"MTrk", len(track)) + track


def read_midi(data: bytes) -> Curve:
    """A curve from the volume or expression that has most events in a file.

    Raises
    ------
    CurveFileError
        If it is no such file, or has no volume and no expression in it.
    """
    if len(data) > LARGEST:
        raise CurveFileError("This MIDI file is larger than 16 MB.")
    division, tracks = _tracks(data)
    scanned = [_scan(track) for track in tracks]
    ours = any(
        track[begin:end] == MAPPING.encode()
        for track, events in zip(tracks, scanned, strict=True)
        for begin, end in events[events[:, 1] == TEXT, 2:4].tolist()
    )
    events = np.concatenate([np.zeros((0, COLUMNS), np.int64), *scanned])
    events = events[np.argsort(events[:, 0], kind="stable")]
    tempo, change = events[events[:, 1] == TEMPO], events[events[:, 1] == CONTROL]
    change = change[np.isin(change[:, 3] % 32, CONTROLS) & (change[:, 3] < 64)]
    if not len(change):
        raise CurveFileError("This MIDI file holds no volume and no expression: control change 7 or 11.")
    key = change[:, 2] * 32 + change[:, 3] % 32
    kinds, first, count = np.unique(key, return_index=True, return_counts=True)
    # of those that have as many, the one that comes first
    chosen = change[key == kinds[np.lexsort((first, -count))[0]]]
    return _curve(_seconds(chosen[:, 0], division, tempo), chosen[:, 4], chosen[:, 3] >= 32, ours)


# --- writing


def _moments(line: Curve) -> FloatArray:
    """When there is an event: at every point of a straight curve, and every STEP while it moves."""
    length = np.diff(line.at)
    moves = np.diff(line.db) != 0
    pieces = np.where(moves, np.ceil(length / STEP), 1).astype(np.int64)
    if pieces.sum() > MOST_EVENTS:
        minutes = STEP * MOST_EVENTS / 60
        raise CurveFileError(
            f"This curve is too long for a MIDI file: of one that moves, {minutes:.0f} minutes can be written."
        )
    piece = np.repeat(np.arange(len(pieces)), pieces)
    step = np.arange(len(piece)) - np.repeat(np.cumsum(pieces) - pieces, pieces)
    between = line.at[piece] + length[piece] * step / pieces[piece]
    return np.asarray(np.maximum(np.sort(np.concatenate([[0.0], between, line.at[-1:]])), 0.0))


def _changes(ticks: Ints, values: Ints, control: int) -> bytes:
    """Control changes at ticks, each coarse and fine part."""
    wait = np.diff(ticks, prepend=0)
    size = 1 + (wait >= 1 << 7) + (wait >= 1 << 14) + (wait >= 1 << 21)
    start = np.cumsum(size + 7) - (size + 7)
    out = np.zeros(int((size + 7).sum()), np.uint8)
    for place in range(4):
        has = size > place
        shift = 7 * (size[has] - 1 - place)
        out[start[has] + place] = wait[has] >> shift & 0x7F | np.where(shift > 0, 0x80, 0)
    after = start + size
    message: tuple[Any, ...] = (0xB0, control, values >> 7, 0, 0xB0, control + 32, values & 127)
    for place, value in enumerate(message):
        out[after + place] = value
    return out.tobytes()


def _meta(kind: int, body: bytes) -> bytes:
    """A meta event at once."""
    return bytes((0, 0xFF, kind, len(body))) + body


# --- reading


def _tracks(data: bytes) -> tuple[int, list[bytes]]:
    """The division of time of a file, and the bytes of its tracks."""
    if len(data) < 14 or data[:4] != b"MThd":
        raise CurveFileError(_NONE)
    size, form, _, division = struct.unpack(">IHHH", data[4:14])
    if form > 1 or division == 0:
        raise CurveFileError(_NONE)
    at, tracks = 8 + size, []
    while at + 8 <= len(data):
        kind, size = struct.unpack(">4sI", data[at : at + 8])
        if at + 8 + size > len(data):
            raise CurveFileError(_NONE)
        if kind == b"MTrk":
            tracks.append(data[at + 8 : at + 8 + size])
        at += 8 + size
    return division, tracks


def _scan(track: bytes) -> Ints:
    raw = np.frombuffer(track, np.uint8)
    count = scan_track(raw, np.zeros((0, COLUMNS), np.int64))
    if count == MALFORMED:
        raise CurveFileError(_NONE)
    events = np.zeros((count, COLUMNS), np.int64)
    scan_track(raw, events)
    return events


def _seconds(ticks: Ints, division: int, tempo: Ints) -> FloatArray:
    """Moments of ticks: by beats and their tempo, or by frames of time code where the division is one of these."""
    if division & 0x8000:
        frames = 256 - (division >> 8)
        return np.asarray(ticks / float(max(frames, 1) * max(division & 0xFF, 1)))
    at = np.concatenate([[0], tempo[:, 0]])
    beat = np.concatenate([[500_000], tempo[:, 2]])
    begins = np.concatenate([[0.0], np.cumsum(np.diff(at) * beat[:-1])])
    piece = np.searchsorted(at, ticks, "right") - 1
    return np.asarray((begins[piece] + (ticks - at[piece]) * beat[piece]) / division / 1e6)


def _curve(at: FloatArray, part: Ints, is_fine: npt.NDArray[np.bool_], ours: bool) -> Curve:
    """The curve of coarse and fine parts in order of time."""
    # a new coarse part begins anew, a fine one belongs to the coarse one before it
    place = np.maximum.accumulate(np.where(is_fine, -1, np.arange(len(part))))
    coarse = np.where(place >= 0, part[place], 0)
    value = coarse << 7 | np.where(is_fine, part, 0)
    last = np.append(at[1:] != at[:-1], True)
    at, value = at[last], value[last]
    most = MOST if is_fine.any() else 127 << 7
    held = (np.diff(at, append=at[-1:]) > APART) & (np.diff(value, append=value[-1:]) != 0)
    with np.errstate(divide="ignore"):
        gain = LOW + (value - 1) / (MOST - 1) * (HIGH - LOW) if ours else 40 * np.log10(value / most)
    return curve_from(at, np.where(value == 0, -np.inf, gain), np.where(held, Shape.HOLD, Shape.LINEAR).astype(np.int8))
