"""Sound files that are nearly right, from a seed: bits, bytes, lengths and pieces changed at random."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np
import soundfile

from tests.conftest import hum, sine

KINDS = ("wav16", "wav24", "float", "double", "rf64", "aiff", "flac", "ogg", "mp3", "bwf")
LONG = 60
"""Seconds of the largest size class; the others are shorter."""


def originals(folder: Path) -> dict[str, bytes]:
    """One good file of each kind and size class."""
    out = {}
    for seconds, rate in ((0.05, 48_000), (2.0, 44_100), (LONG, 16_000)):
        sound = 0.8 * hum(-20, seconds, rate) + sine(-40, seconds, rate, 300.0)
        for kind in KINDS:
            name = f"{kind}-{seconds:g}"
            path = folder / f"{name}.{ {'aiff': 'aiff', 'flac': 'flac', 'ogg': 'ogg', 'mp3': 'mp3'}.get(kind, 'wav') }"
            subtype = {"wav16": "PCM_16", "float": "FLOAT", "double": "DOUBLE", "ogg": "VORBIS", "mp3": "MPEG_LAYER_III"}
            form = {"rf64": "RF64", "aiff": "AIFF", "flac": "FLAC", "ogg": "OGG", "mp3": "MP3"}.get(kind, "WAV")
            soundfile.write(path, sound, rate, subtype=subtype.get(kind, "PCM_24"), format=form)
            data = path.read_bytes()
            if kind == "bwf":
                chunk = b"bext" + struct.pack("<I", 602) + bytes(602)
                data = data[:4] + struct.pack("<I", len(data) + len(chunk) - 8) + data[8:12] + chunk + data[12:]
            out[name] = data
    return out


def mutant(data: bytes, random: np.random.Generator) -> bytes:
    """A file with a few things wrong, most of them near its beginning, where its headers are."""
    raw = bytearray(data)

    def place() -> int:
        near = min(len(raw), 64 if random.random() < 0.5 else 1024)
        return int(random.integers(0, max(near if random.random() < 0.7 else len(raw), 1)))

    for _ in range(int(random.integers(1, 6))):
        if not raw:
            break
        at, what = place(), random.integers(0, 9)
        length = int(random.integers(1, 64))
        if what == 0:
            raw[at] ^= 1 << int(random.integers(0, 8))
        elif what == 1:
            raw[at : at + length] = random.bytes(length)
        elif what == 2:
            del raw[at : at + length]
        elif what == 3:
            raw[at:at] = random.bytes(length)
        elif what == 4:
            del raw[at:]
        elif what == 5:
            raw[at : at + 4] = struct.pack("<I", int(random.choice([0, 1, 0x7FFFFFFF, 0xFFFFFFFF, 0x80000000, len(raw)])))
        elif what == 6:
            raw += bytes(int(random.integers(1, 100_000)))
        elif what == 7:
            other = place()
            raw[at : at + length] = raw[other : other + length]
        else:
            raw[at : at + 8] = struct.pack("<d", float(random.choice([np.nan, np.inf, 1e25, -1e300, 5e-324])))
    return bytes(raw)
