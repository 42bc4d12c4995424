"""The formats of gain curves, by the ending of a file's name."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path, PurePath

from nivelus.core.deliver.curve_csv import read_csv, write_csv
from nivelus.core.deliver.curve_midi import read_midi, write_midi
from nivelus.core.errors import CurveFileError
from nivelus.core.files import check_readable
from nivelus.core.gain.drawn import Curve

LARGEST = 16 << 20
"""Bytes of a file that is read as a curve."""


@dataclass(frozen=True, slots=True)
class CurveFormat:
    """A format that curves are read from and written in."""

    name: str
    endings: tuple[str, ...]
    read: Callable[[bytes], Curve]
    write: Callable[[Curve], bytes]


FORMATS = (
    CurveFormat("CSV", (".csv", ".txt"), read_csv, write_csv),
    CurveFormat("Standard MIDI File", (".mid", ".midi"), read_midi, write_midi),
)


def format_of(path: PurePath) -> CurveFormat:
    """The format that a file's name says.

    Raises
    ------
    CurveFileError
        If it says none.
    """
    for known in FORMATS:
        if path.suffix.lower() in known.endings:
            return known
    raise CurveFileError(f"“{path.name}”: a curve is a CSV file (seconds,dB) or a MIDI file (.mid).")


def parse_curve(path: PurePath, data: bytes) -> Curve:
    """A curve from the bytes of a file, in the format that its name says.

    Raises
    ------
    CurveFileError
        If the name says no format, or the bytes hold no curve.
    """
    known = format_of(path)
    try:
        return known.read(data)
    except CurveFileError as error:
        raise CurveFileError(f"“{path.name}”: {error.sentence}") from error


def read_curve(path: Path) -> Curve:
    """Read a curve from a file.

    Raises
    ------
    FileError
        If it is no file that can be read.
    CurveFileError
        If it holds no curve, or is larger than any curve.
    """
    format_of(path)
    check_readable(path)
    if path.stat().st_size > LARGEST:
        raise CurveFileError(f"“{path}” is larger than {LARGEST >> 20} MB, which no curve is.")
    try:
        data = path.read_bytes()
    except OSError as error:
        raise CurveFileError(f"“{path}” could not be read: {error.strerror}.") from error
    return parse_curve(path, data)
