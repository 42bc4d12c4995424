"""The broadcast extension chunk of BWF files: who recorded it, when, and where on the timeline it starts.

Source: EBU Tech 3285, version 2. Text is ASCII padded with NUL; TimeReference is in samples since midnight; the five
loudness fields are 16-bit integers of 100 x the value.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass, replace

_HEAD = struct.Struct("<256s32s32s10s8sQH64s5h180s")
UNSET = 0x7FFF


@dataclass(frozen=True, slots=True)
class Bext:
    """A broadcast extension chunk; loudness fields in LUFS, LU and dBTP, None where unset."""

    description: str = ""
    originator: str = ""
    originator_reference: str = ""
    date: str = ""
    time: str = ""
    time_reference: int = 0
    umid: bytes = b""
    loudness: float | None = None
    loudness_range: float | None = None
    true_peak: float | None = None
    momentary_max: float | None = None
    short_term_max: float | None = None
    coding_history: str = ""


def parse_bext(raw: bytes) -> Bext | None:
    """Read a ``bext`` chunk; None if it is too short to be one. Fields newer than its version are left unset."""
    if len(raw) < _HEAD.size:
        return None
    fields = _HEAD.unpack_from(raw)
    version = fields[6]
    description, originator, reference, date, time = (_text(field) for field in fields[:5])
    loudness = [None if version < 2 or value == UNSET else value / 100 for value in fields[8:13]]
    return Bext(
        description,
        originator,
        reference,
        date,
        time,
        time_reference=fields[5],
        umid=fields[7] if version >= 1 else b"",
        loudness=loudness[0],
        loudness_range=loudness[1],
        true_peak=loudness[2],
        momentary_max=loudness[3],
        short_term_max=loudness[4],
        coding_history=raw[_HEAD.size :].split(b"\0", 1)[0].decode("latin-1"),
    )


def write_bext(bext: Bext) -> bytes:
    """Write a version 2 ``bext`` chunk body, padded to an even length."""
    values = (bext.loudness, bext.loudness_range, bext.true_peak, bext.momentary_max, bext.short_term_max)
    body = _HEAD.pack(
        _bytes(bext.description),
        _bytes(bext.originator),
        _bytes(bext.originator_reference),
        _bytes(bext.date),
        _bytes(bext.time),
        bext.time_reference,
        2,
        bext.umid,
        *(UNSET if value is None else max(-32768, min(32766, round(value * 100))) for value in values),
        b"",
    ) + _bytes(bext.coding_history)
    return body + b"\0" * (len(body) & 1)


def with_history(bext: Bext, rate: int, bits: int, channels: int) -> Bext:
    """A stamp whose coding history has one more line: what a render made of it (EBU R 98).

    Parameters
    ----------
    bext : the stamp of the recording
    rate, bits, channels : those of the render
    """
    mode = {1: "mono", 2: "stereo"}.get(channels, "multitrack")
    history = bext.coding_history.rstrip("\r\n")
    line = f"A=PCM,F={rate},W={bits},M={mode},T=Nivelus\r\n"
    return replace(bext, coding_history=f"{history}\r\n{line}" if history else line)


def _text(raw: bytes) -> str:
    # ASCII is meant; whatever else stands there goes out as it came in
    return raw.split(b"\0", 1)[0].decode("latin-1").rstrip()


def _bytes(text: str) -> bytes:
    return text.encode("latin-1", "replace")
