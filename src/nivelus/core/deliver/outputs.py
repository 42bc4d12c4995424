"""Where a run writes to: every name is settled, and checked against what is there, before anything is measured.

An output never takes the place of a file that the run did not make, unless the person says so; of a file that the run reads
from never. Files are compared by what they are and not by their names, so links, relative ways and capital letters do not
matter.
"""

from __future__ import annotations

import os
import unicodedata
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from nivelus.core.errors import NivelusError, Taken
from nivelus.core.sound_formats import EXTENSIONS


@dataclass(frozen=True, slots=True)
class Output:
    """One input and where its results go: the sound, and the curve beside it if one is written."""

    source: Path
    sound: Path
    curve: Path | None = None

    @property
    def files(self) -> tuple[Path, ...]:
        """All that is written for this input."""
        return (self.sound,) if self.curve is None else (self.sound, self.curve)


@dataclass(frozen=True, slots=True)
class Source:
    """A file that is worked on, and in which folder below the output its results lie."""

    path: Path
    below: Path = Path()


def find_sources(given: Sequence[Path], recursive: bool, output: Path) -> list[Source]:
    """The files of a run: those that are named, and of a folder the sound files in it, by name.

    ``recursive`` takes its sub-folders too, whose tree is kept below the output; what lies in ``output`` is none of it.

    Raises
    ------
    NivelusError
        Where a folder holds no sound files.
    """
    sources: list[Source] = []
    own = os.path.realpath(output)
    for path in given:
        if not path.is_dir():
            sources.append(Source(path))
            continue
        found = []
        for place, folders, names in os.walk(path):
            folders[:] = sorted(n for n in folders if recursive and os.path.realpath(os.path.join(place, n)) != own)
            here = Path(place)
            found += [
                Source(here / name, here.relative_to(path))
                for name in sorted(names)
                if name.lower().endswith(EXTENSIONS) and not name.startswith(".") and (here / name).is_file()
            ]
        if not found:
            raise NivelusError(
                f"“{path}” holds no sound files{'' if recursive else '; --recursive looks into its folders too'}."
            )
        sources += found
    return sources


def plan_outputs(sources: Sequence[Source], output: Path, is_file: bool, ending: str, curve_ending: str | None) -> list[Output]:
    """Settle the names of a run: ``output`` itself, or for each source its name with ``ending`` in the folder ``output``.

    Sources of one name get a number. ``curve_ending`` is that of the curves, such as ``csv``.

    Parameters
    ----------
    sources : what is read
    output : a file or a folder
    is_file : whether ``output`` is a file
    ending : that of the sound files, such as ``wav``
    curve_ending : that of the curves, such as ``csv``; none if not given
    """
    planned: list[Output] = []
    taken: set[tuple[str, str]] = set()
    for source in sources:
        wanted = output if is_file else output / source.below / f"{source.path.stem}.{ending}"
        free, number = _output(source.path, wanted, curve_ending), 2
        while any(_place(path) in taken for path in free.files):
            free, number = _output(source.path, wanted.with_stem(f"{wanted.stem}-{number}"), curve_ending), number + 1
        taken.update(_place(path) for path in free.files)
        planned.append(free)
    return planned


def check_outputs(planned: Sequence[Output], read: Iterable[Path], overwrite: bool) -> None:
    """Make sure that nothing is written over.

    Parameters
    ----------
    read : files that the run reads from; none of them is ever written over
    overwrite : whether other files may be

    Raises
    ------
    Taken
        Naming every file that is in the way, and a free name for it.
    """
    inputs = {identity for path in read if (identity := _identity(path)) is not None}
    faults = []
    for output in planned:
        for path in output.files:
            if not os.path.lexists(path):
                continue
            if path.is_dir() or (os.path.exists(path) and not path.is_file()):
                faults.append(f"“{path}” is there and is no file. Choose another output.")
            elif _identity(path) in inputs:
                faults.append(f"“{path}” is read from in this run and is never written over. {_offer(path, planned)}")
            elif not overwrite:
                faults.append(f"“{path}” is there already and stays as it is. {_offer(path, planned)}, or say --overwrite.")
    if faults:
        raise Taken("\n".join(dict.fromkeys(faults)) + "\nNothing was written.")


def _output(source: Path, sound: Path, curve_ending: str | None) -> Output:
    return Output(source, sound, sound.with_suffix(f".ride.{curve_ending}") if curve_ending else None)


def _offer(path: Path, planned: Sequence[Output]) -> str:
    taken = {_place(other) for output in planned for other in output.files}
    free, number = path.with_stem(f"{path.stem} levelled"), 2
    while os.path.lexists(free) or _place(free) in taken:
        free, number = path.with_stem(f"{path.stem} levelled {number}"), number + 1
    return f"“{free}” is free"


def _identity(path: Path) -> tuple[int, int] | None:
    """What a file is, whatever it is called; None if it is not there."""
    try:
        found = path.stat()
    except (OSError, ValueError):
        return None
    return found.st_dev, found.st_ino


def _place(path: Path) -> tuple[str, str]:
    """Where a file would lie, alike for names that some file systems take for the same."""
    return os.path.realpath(path.parent), unicodedata.normalize("NFC", path.name).casefold()
