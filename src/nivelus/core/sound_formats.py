"""The formats of sound files, one row each: what is read, by which names, and what is written.

Lists of files, options, menus, refusals and requests are made from FORMATS. Reading is libsndfile's, see
``core.sound.reader``; writing is ``core.sound.writer``'s.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import PurePath
from typing import Literal, cast, get_args

from nivelus.core.words import listed

Written = Literal["wav", "flac"]
Bits = Literal[16, 24, 32]
"""Bits of a sample that is written; 32 is float."""


@dataclass(frozen=True, slots=True)
class SoundFormat:
    """A format of sound files.

    ``name`` is also the ending under which one is kept, ``words`` are what people call it and its kin, ``endings`` those of
    files. ``decoded`` are the names that the decoder has for it, ``coding`` the only coding in it that is read, if there is
    one. ``bits`` are those that it is written with, the usual ones first; none where it is only read.
    """

    name: str
    words: tuple[str, ...]
    endings: tuple[str, ...]
    decoded: tuple[str, ...]
    coding: str | None = None
    is_lossy: bool = False
    bits: tuple[int, ...] = ()


FORMATS = (
    SoundFormat("wav", ("WAV", "BWF", "RF64"), (".wav", ".bwf", ".rf64"), ("WAV", "WAVEX", "RF64"), bits=(24, 16, 32)),
    SoundFormat("aiff", ("AIFF",), (".aif", ".aiff", ".aifc"), ("AIFF",)),
    SoundFormat("flac", ("FLAC",), (".flac",), ("FLAC",), bits=(24, 16)),
    SoundFormat("ogg", ("Ogg Vorbis",), (".ogg", ".oga"), ("OGG",), coding="VORBIS", is_lossy=True),
    SoundFormat("mp3", ("MP3",), (".mp3",), ("MP3", "MPEG"), is_lossy=True),
)
WRITTEN = tuple(one for one in FORMATS if one.bits)
EXTENSIONS = tuple(ending for one in FORMATS for ending in one.endings)
OF_DECODER = {name: one for one in FORMATS for name in one.decoded}
assert get_args(Written) == tuple(one.name for one in WRITTEN)
assert set(get_args(Bits)) == {bits for one in WRITTEN for bits in one.bits}


def every_format(ending: str = "and") -> str:
    """All formats that are read, in words: "WAV, BWF, ... and MP3"."""
    return listed([words for one in FORMATS for words in one.words], ending)


def written_by_name(path: PurePath) -> Written | None:
    """The format that a file is written in by the ending of its name; None where that says none."""
    for one in WRITTEN:
        if path.suffix.lower() in one.endings:
            return cast(Written, one.name)
    return None


def why_not_written(format: str, bits: int) -> str | None:
    """Why nothing is written in a format with so many bits, as a sentence; None where it is."""
    if any(one.name == format and bits in one.bits for one in WRITTEN):
        return None
    takes = [f"{one.words[0]} takes {listed([str(bits) for bits in sorted(one.bits)], 'or')} bits" for one in reversed(WRITTEN)]
    return f"{', '.join(takes)}; 32 is float."
