"""The formats of gain curves, by the ending of a file's name.

A format is a module of its name, such as ``curve_csv`` with ``read_csv`` and ``write_csv``, and a row in FORMATS: menus,
options, refusals and tests are made from that. The module is loaded when it is needed, so that who only lists formats starts
at once.
"""

from __future__ import annotations

from dataclasses import dataclass
from importlib import import_module
from pathlib import Path, PurePath
from types import ModuleType
from typing import TYPE_CHECKING

from nivelus.core.errors import CurveFileError
from nivelus.core.files import check_readable
from nivelus.core.words import listed

if TYPE_CHECKING:
    from nivelus.core.gain.drawn import Curve

LARGEST = 16 << 20
"""Bytes of a file that is read as a curve."""


@dataclass(frozen=True, slots=True)
class CurveFormat:
    """A format that curves are read from and written in.

    ``name`` is that of its module, ``words`` are what it is called in a sentence, ``endings`` those of files, the first one for
    what is written.
    """

    name: str
    words: str
    endings: tuple[str, ...]

    @property
    def ending(self) -> str:
        """The ending of what is written, without its full stop."""
        return self.endings[0].removeprefix(".")

    def read(self, data: bytes) -> Curve:
        """The curve that a file of this format holds. Raises CurveFileError."""
        curve: Curve = getattr(self._module(), f"read_{self.name}")(data)
        return curve

    def write(self, curve: Curve) -> bytes:
        """A curve as a file of this format."""
        data: bytes = getattr(self._module(), f"write_{self.name}")(curve)
        return data

    def _module(self) -> ModuleType:
        return import_module(f"{__package__}.curve_{self.name}")


FORMATS = (
    CurveFormat("csv", "CSV", (".csv", ".txt")),
    CurveFormat("midi", "a MIDI file", (".mid", ".midi")),
)


def every_format() -> str:
    """All formats in words, as the end of a sentence."""
    return listed([f"{known.words} ({', '.join(known.endings)})" for known in FORMATS], "or")


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
    raise CurveFileError(f"“{path.name}”: a curve is {every_format()}.")


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
