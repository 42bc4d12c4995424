"""Sound files that are odd, or none."""

from __future__ import annotations

import os
import struct
from collections.abc import Iterable
from pathlib import Path

import numpy as np
import soundfile

from nivelus.core.errors import EmptySound, NotSound, SoundError, TruncatedSound, UnfitSound
from nivelus.core.sound.bwf import Bext
from tests.conftest import RATE, hum, write_sound

VOICE = hum(-20, 1.3)


BEXT = Bext(
    description="Audio guide, take 3",
    originator="Pellowmere",
    originator_reference="PM-0042",
    date="2026-03-14",
    time="10:20:30",
    time_reference=36_000 * RATE + 17,
    umid=bytes(range(64)),
    loudness=-23.04,
    loudness_range=7.5,
    true_peak=-1.01,
    momentary_max=-18.2,
    short_term_max=-20.33,
    coding_history="A=PCM,F=48000,W=24,M=mono\r\n",
)


def say(path: Path, chunks: Iterable[tuple[bytes, bytes]]) -> Path:
    """Have a WAV file say something more: chunks behind its sound."""
    data = path.read_bytes()
    for name, body in chunks:
        data += name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) % 2)
    path.write_bytes(data[:4] + struct.pack("<I", len(data) - 8) + data[8:])
    return path


def bad_files(folder: Path) -> dict[str, tuple[Path, type[SoundError], str]]:
    def put(name: str, content: bytes) -> Path:
        path = folder / name
        path.write_bytes(content)
        return path

    def cut(source: Path, keep: float) -> bytes:
        data = source.read_bytes()
        return data[: int(len(data) * keep)]

    wav, flac = write_sound(folder / "w.wav", VOICE), write_sound(folder / "w.flac", VOICE)
    aiff, ogg = write_sound(folder / "w.aiff", VOICE), folder / "w.ogg"
    soundfile.write(ogg, VOICE, RATE)
    no_samples = write_sound(folder / "no samples.wav", VOICE[:0])
    return {
        "empty": (put("empty.wav", b""), EmptySound, "is empty"),
        "no samples": (no_samples, EmptySound, "no samples"),
        "text": (put("notes.wav", b"These are my notes, not a voice. " * 50), NotSound, "not a sound file"),
        "random": (put("noise.flac", os.urandom(5000)), NotSound, "not a sound file"),
        "cut wav": (put("cut.wav", cut(wav, 0.6)), TruncatedSound, "cut short"),
        "cut aiff": (put("cut.aiff", cut(aiff, 0.6)), TruncatedSound, "cut short"),
        "cut flac": (put("cut.flac", cut(flac, 0.6)), TruncatedSound, "cut short"),
        "cut ogg": (put("cut.ogg", cut(ogg, 0.6)), TruncatedSound, "cut short"),
        "header only": (put("head.wav", wav.read_bytes()[:30]), SoundError, "head.wav"),
        "crowd": (write_sound(folder / "crowd.wav", np.tile(VOICE[:9600, None], 65)), UnfitSound, "64 are the most"),
        "surround": (write_sound(folder / "six.wav", np.tile(VOICE[:, None], 6)), UnfitSound, "6 channels"),
        "too slow": (write_sound(folder / "slow.wav", VOICE, 4000), UnfitSound, "4000 Hz"),
        "too fast": (write_sound(folder / "fast.wav", VOICE, 384_000), UnfitSound, "384000 Hz"),
    }
