"""The formats of sound files, one row each: what is read, by which names, and what is written.

Lists of files, options, menus, refusals and requests are made from FORMATS. Reading is libsndfile's, see
``core.sound.reader``; what has ``demuxers`` is decoded by FFmpeg first, see ``core.sound.decoding``. Writing is
``core.sound.writer``'s.
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
    files. ``decoded`` are the names that libsndfile has for it, ``coding`` the only coding in it that it reads, if there is
    one. ``demuxers`` are the names that FFmpeg has for what only that reads. ``bits`` are those that it is written with,
    the usual ones first; none where it is only read. Sentences name the first so many of its words as are ``common``.
    """

    name: str
    words: tuple[str, ...]
    endings: tuple[str, ...]
    decoded: tuple[str, ...] = ()
    coding: str | None = None
    demuxers: tuple[str, ...] = ()
    is_lossy: bool = False
    bits: tuple[int, ...] = ()
    common: int = 0


FORMATS = (
    SoundFormat(
        "wav", ("WAV", "BWF", "RF64"), (".wav", ".bwf", ".rf64"), ("WAV", "WAVEX", "RF64"), bits=(24, 16, 32), common=3
    ),
    SoundFormat("aiff", ("AIFF",), (".aif", ".aiff", ".aifc"), ("AIFF",), common=1),
    SoundFormat("flac", ("FLAC",), (".flac",), ("FLAC",), bits=(24, 16), common=1),
    SoundFormat("ogg", ("Ogg Vorbis",), (".ogg", ".oga"), ("OGG",), coding="VORBIS", is_lossy=True, common=1),
    SoundFormat("mp3", ("MP3",), (".mp3",), ("MP3", "MPEG"), is_lossy=True, common=1),
    SoundFormat(
        "mp4",
        ("M4A", "MP4", "MOV", "M4B", "M4V", "3GP", "3G2"),
        (".m4a", ".mp4", ".mov", ".m4b", ".m4v", ".3gp", ".3g2"),
        demuxers=("mov", "mp4", "m4a", "3gp", "3g2", "mj2"),
        common=3,
    ),
    SoundFormat("mkv", ("MKV", "WebM", "MKA"), (".mkv", ".webm", ".mka"), demuxers=("matroska", "webm"), common=2),
    SoundFormat("wma", ("WMA", "WMV", "ASF"), (".wma", ".wmv", ".asf"), demuxers=("asf",)),
    SoundFormat("avi", ("AVI",), (".avi",), demuxers=("avi",)),
    SoundFormat("mxf", ("MXF",), (".mxf",), demuxers=("mxf",)),
    SoundFormat("ts", ("MPEG-TS",), (".ts", ".mts", ".m2ts"), demuxers=("mpegts",)),
    SoundFormat("mpg", ("MPEG",), (".mpg", ".mpeg", ".vob"), demuxers=("mpeg",)),
    SoundFormat("flv", ("FLV",), (".flv",), demuxers=("flv",)),
    SoundFormat("opus", ("Ogg Opus", "Speex"), (".opus", ".spx"), demuxers=("ogg",)),
    SoundFormat("aac", ("AAC",), (".aac",), demuxers=("aac",)),
    SoundFormat("ac3", ("AC-3", "E-AC-3"), (".ac3", ".eac3"), demuxers=("ac3", "eac3")),
    SoundFormat("dts", ("DTS",), (".dts",), demuxers=("dts",)),
    SoundFormat("caf", ("CAF",), (".caf",), demuxers=("caf",)),
    SoundFormat("w64", ("W64",), (".w64",), demuxers=("w64",)),
    SoundFormat("au", ("AU",), (".au", ".snd"), demuxers=("au",)),
    SoundFormat("wv", ("WavPack",), (".wv",), demuxers=("wv",)),
    SoundFormat("tta", ("TTA",), (".tta",), demuxers=("tta",)),
)
WRITTEN = tuple(one for one in FORMATS if one.bits)
EXTENSIONS = tuple(ending for one in FORMATS for ending in one.endings)
OF_DECODER = {name: one for one in FORMATS for name in one.decoded}
DEMUXERS = (*(name for one in FORMATS for name in one.demuxers), "wav", "aiff")
"""What FFmpeg may take a file for; WAV and AIFF with codings that libsndfile does not know are among them."""
assert get_args(Written) == tuple(one.name for one in WRITTEN)
assert set(get_args(Bits)) == {bits for one in WRITTEN for bits in one.bits}


def every_format(ending: str = "and") -> str:
    """What is read, in words: "WAV, BWF, ... and the like". What is rare is not named."""
    return listed([*(words for one in FORMATS for words in one.words[: one.common]), "the like"], ending)


def of_demuxer(names: str, ending: str) -> str:
    """What people call a file that FFmpeg took for ``names`` (with commas between them), by the ending of its name."""
    for one in FORMATS:
        if not set(one.demuxers).isdisjoint(names.split(",")):
            with_ending = (words for words in one.words if words.lower() == ending.lower().lstrip("."))
            return next(with_ending, one.words[0])
    return names.split(",")[0].upper()


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
