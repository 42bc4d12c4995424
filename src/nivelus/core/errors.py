"""What can go wrong, as one small tree.

::

    NivelusError            a sentence for the person, fields for the program
    |-- SoundError          a sound file cannot be used
    |   |-- NotSound        it is no sound file, or of a kind that is not read
    |   |-- UndecidedSound  it can be taken in several ways, and none was asked for
    |   |-- EmptySound      it holds no samples
    |   |-- TruncatedSound  it ends before its header says
    |   |-- SilentSound     every sample is zero
    |   |-- BrokenSamples   it holds values that are no numbers
    |   |-- TooLoud         it holds samples far beyond full scale
    |   `-- UnfitSound      too many channels, or a rate outside 8-192 kHz
    |-- FileError           a name that is no file that can be read
    |   `-- Taken           an output would take the place of another file
    |-- DiskFull            there is no room left to write
    |-- LevelError          a level that cannot be worked with
    |-- GainError           clips or gains that make no curve
    |-- CurveFileError      a file that holds no gain curve
    |-- RuleError           a rule that cannot be used, or a file that holds none
    |-- NotFound            what was asked for is not there (any more)
    |-- Refused             the request makes no sense as it stands
    |   `-- Locked          a phrase that is locked is in the way
    |-- Stale               it was based on an older state
    |-- Busy                another program holds what is needed
    |-- Broken              what is stored of a session cannot be read
    `-- Cancelled           the person stopped the work, or nobody waits for it
"""

from __future__ import annotations

from typing import Any


class NivelusError(Exception):
    """Something went wrong that the person can be told about.

    Parameters
    ----------
    sentence : plain words: what happened, to what, and what can be done
    fields : facts for the program (JSON types only)
    """

    def __init__(self, sentence: str, **fields: Any) -> None:
        super().__init__(sentence)
        self.sentence = sentence
        self.fields = fields


class SoundError(NivelusError):
    """A sound file cannot be used."""


class NotSound(SoundError):  # noqa: N818
    """The file is no sound file that can be read."""


class UndecidedSound(SoundError):  # noqa: N818
    """The file can be taken in several ways: the field ``options`` has them in words, ``usual`` is the place of the likely one.

    ``of`` names what is to be decided: its "sound track", or its "channels".
    """


class EmptySound(SoundError):  # noqa: N818
    """The file holds no samples."""


class TruncatedSound(SoundError):  # noqa: N818
    """The file ends before its header says that it does."""


class SilentSound(SoundError):  # noqa: N818
    """Every sample of the file is zero."""


class BrokenSamples(SoundError):  # noqa: N818
    """The file holds NaN or infinite samples."""


class TooLoud(SoundError):  # noqa: N818
    """The file holds samples so far beyond full scale that they cannot be meant."""


class UnfitSound(SoundError):  # noqa: N818
    """The file has too many channels or an unusual sampling rate."""


class FileError(NivelusError):
    """A name is no file that can be read."""


class Taken(FileError):  # noqa: N818
    """An output would take the place of a file that this run did not make."""


class DiskFull(NivelusError):  # noqa: N818
    """There is no room left to write."""


class LevelError(NivelusError):
    """A level is missing or not finite where one is needed."""


class GainError(NivelusError):
    """Clips or gains do not make a gain curve."""


class CurveFileError(NivelusError):
    """A file holds no gain curve that can be used."""


class RuleError(NivelusError):
    """A rule cannot be used, or a file holds none; the field ``setting`` says which value it is, where it is one."""


class NotFound(NivelusError):  # noqa: N818
    """What was asked for does not exist."""


class Refused(NivelusError):  # noqa: N818
    """The request cannot be carried out as it stands.

    Where the sentence names something to do that is a command of the page, the field ``command`` is its id: the page
    knows the key.
    """


class Locked(Refused):
    """A phrase that is locked is in the way.

    Parameters
    ----------
    which : what is locked, a sentence
    way_out : what can be done, a sentence
    """

    def __init__(self, which: str, way_out: str = "Unlock it first.") -> None:
        super().__init__(f"{which} {way_out}", command="lock")


class Stale(NivelusError):  # noqa: N818
    """The write was based on an older state of the session."""


class DraftChanged(Stale):
    """A draft that is accepted is not the one any more that was on view."""


class Busy(NivelusError):  # noqa: N818
    """Another program holds what is needed, such as the database."""


class Broken(NivelusError):  # noqa: N818
    """What is stored of a session cannot be read."""


class Cancelled(NivelusError):  # noqa: N818
    """The person stopped the work, or nobody waits for it any more."""
