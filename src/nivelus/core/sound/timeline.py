"""Reading a track that is put together of several recordings, as if it were one sound file.

Conventions
-----------
Where a piece follows another one of the same recording at the same place, the samples are the recording's, bit for bit. Where
one recording gives way to another, each fades over 5 ms (a raised cosine): around the border where both go on underneath, and
before it where one does not. Beside silence the fade lies inside. Between pieces there is digital silence. A recording of
another rate is resampled, which is the same wherever reading begins; a mono one in a stereo track is heard at equal power.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from nivelus.core.sound.bwf import Bext
from nivelus.core.sound.reader import Samples, SoundInfo, SoundReader
from nivelus.core.sound.riff import MOST_BYTES, Chunk, Lies, carried
from nivelus.core.sound.source import Resampled, SoundSource, frames_at_rate, read_at_rate

FADE_SECONDS = 0.005


class Piece(NamedTuple):
    """A span of a track, ``start`` ... ``end`` samples, and the recording heard in it, at its own position plus ``shift``."""

    path: Path
    start: int
    end: int
    shift: int


@dataclass(frozen=True)
class Composed:
    """A track of several pieces in order of time, none over another; ``frames`` long at ``sample_rate``."""

    pieces: tuple[Piece, ...]
    sample_rate: int
    channels: int
    frames: int


def open_track(source: Path | Composed) -> SoundReader | TimelineReader:
    """Open a sound file, or a track of several, at its own rate. Raises what ``SoundReader`` does."""
    return TimelineReader(source) if isinstance(source, Composed) else SoundReader(source)


def open_sound(source: Path | Composed, rate: int | None = None) -> SoundSource:
    """Open a sound file, or a track of several, to be read at a ``rate`` or its own. Raises what ``SoundReader`` does."""
    sound = open_track(source)
    return sound if rate is None or rate == sound.info.sample_rate else Resampled(sound, rate)


class _Fades(NamedTuple):
    """From where to where a piece is read, and over which samples it fades in and out; None where it does not."""

    piece: Piece
    first: int
    last: int
    fade_in: int | None
    fade_out: int | None


class TimelineReader:
    """A track of several recordings that is read by position, as ``SoundReader`` reads a file."""

    def __init__(self, track: Composed) -> None:
        self.track = track
        self._readers: dict[Path, SoundReader] = {}
        self._fade = max(2, 2 * round(FADE_SECONDS * track.sample_rate / 2))
        self._pieces: list[_Fades] | None = None
        self._window = 0.5 - 0.5 * np.cos(np.pi * (np.arange(self._fade) + 0.5) / self._fade)

    @property
    def info(self) -> SoundInfo:
        """What a file of this track would say of itself: the deepest of its recordings, and when the track begins."""
        infos = [self._reader(piece.path).info for piece in self.track.pieces]
        deepest = max(infos, key=lambda info: info.bits, default=None)
        return SoundInfo(
            self.track.sample_rate,
            self.track.channels,
            self.track.frames,
            "WAV",
            {16: "PCM_16", 24: "PCM_24"}.get(deepest.bits if deepest else 24, "FLOAT"),
            self._stamp(infos),
        )

    def read(self, start: int, frames: int) -> Samples:
        """Read ``frames`` samples from ``start`` on; shorter only at the end of the track. See ``SoundReader.read``."""
        start = min(max(start, 0), self.track.frames)
        end = min(start + frames, self.track.frames)
        out = np.zeros((end - start, self.track.channels), np.float32)
        for fades in self._faded():
            first, last = max(start, fades.first), min(end, fades.last)
            if first >= last:
                continue
            block = self._heard(fades.piece, first, last)
            for edge, window in ((fades.fade_in, self._window), (fades.fade_out, self._window[::-1])):
                if edge is not None:
                    _fade(block, first, edge, window)
            if block.dtype == np.float64 and out.dtype != np.float64:
                out = out.astype(np.float64)
            out[first - start : last - start] += block
        return out

    def blocks(self, frames: int = 1 << 18) -> Iterator[Samples]:
        """Read the whole track, ``frames`` samples at a time."""
        for start in range(0, self.track.frames, frames):
            yield self.read(start, frames)

    def chunks(self) -> tuple[Chunk, ...]:
        """What the recordings say besides their sound, as a file of this track says it; see ``core.sound.riff``."""
        runs: dict[Path, list[tuple[int, int, int]]] = {}
        before: Piece | None = None
        for piece in self.track.pieces:
            own = runs.setdefault(piece.path, [])
            if before is not None and before.end == piece.start and _goes_on(before, piece):
                own[-1] = (own[-1][0], piece.end, piece.shift)
            else:
                own.append((piece.start, piece.end, piece.shift))
            before = piece
        found, left = [], MOST_BYTES
        for path, own in runs.items():
            reader = self._reader(path)
            chunks = reader.chunks(left)
            left -= sum(len(chunk.body) for chunk in chunks)
            found.append((chunks, Lies(tuple(own), self.track.sample_rate, reader.info.sample_rate)))
        return carried(found)

    def close(self) -> None:
        """Close the files."""
        while self._readers:
            self._readers.popitem()[1].close()

    def __enter__(self) -> TimelineReader:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    # ---

    def _reader(self, path: Path) -> SoundReader:
        if path not in self._readers:
            self._readers[path] = SoundReader(path)
        return self._readers[path]

    def _faded(self) -> list[_Fades]:
        if self._pieces is None:
            pieces = self.track.pieces
            self._pieces = [
                self._fades(piece, before, after)
                for before, piece, after in zip((None, *pieces), pieces, (*pieces[1:], None), strict=False)
            ]
        return self._pieces

    def _fades(self, piece: Piece, before: Piece | None, after: Piece | None) -> _Fades:
        half = self._fade // 2
        begins, ends = piece.shift, piece.shift + self._length(piece.path)
        first, last = piece.start, piece.end
        fade_in: int | None = first
        fade_out: int | None = last - self._fade
        if before is not None and before.end == first:
            if _goes_on(before, piece):
                fade_in = None
            elif begins <= first - half:
                fade_in = first = first - half
        elif first == 0 and begins == 0:
            # the recording's own beginning, and that of the track
            fade_in = None
        if after is not None and after.start == last:
            if _goes_on(piece, after):
                fade_out = None
            elif ends >= last + half:
                fade_out = last - half
                last += half
        elif last == self.track.frames and last >= ends:
            fade_out = None
        return _Fades(piece, max(first, 0), min(last, self.track.frames), fade_in, fade_out)

    def _length(self, path: Path) -> int:
        """The length of a recording in samples of the track."""
        info = self._reader(path).info
        return frames_at_rate(info.frames, info.sample_rate, self.track.sample_rate)

    def _heard(self, piece: Piece, first: int, last: int) -> Samples:
        """What a piece holds between two positions of the track, (n, channels) of the track."""
        reader = self._reader(piece.path)
        start, count = first - piece.shift, last - first
        block = read_at_rate(reader, self.track.sample_rate, start, count)
        if block.shape[1] < self.track.channels:
            block = np.repeat(block * block.dtype.type(math.sqrt(block.shape[1] / self.track.channels)), self.track.channels, 1)
        return block

    def _stamp(self, infos: Sequence[SoundInfo]) -> Bext | None:
        """The start stamp of the track, where all recordings that have one agree on when it begins."""
        stamps = {}
        for piece, info in zip(self.track.pieces, infos, strict=True):
            if info.bext is not None and info.bext.time_reference:
                begins = info.bext.time_reference * self.track.sample_rate // info.sample_rate - piece.shift
                stamps[begins] = info.bext
        if len(stamps) != 1:
            return None
        ((begins, bext),) = stamps.items()
        return replace(bext, time_reference=begins) if begins >= 0 else None


def _goes_on(left: Piece, right: Piece) -> bool:
    return (left.path, left.shift) == (right.path, right.shift)


def _fade(block: Samples, first: int, edge: int, window: npt.NDArray[np.float64]) -> None:
    """Multiply a block that begins at ``first`` by the part of a ``window`` from ``edge`` on that lies in it."""
    a, b = max(edge, first), min(edge + len(window), first + len(block))
    if a < b:
        block[a - first : b - first] *= window[a - edge : b - edge, None].astype(block.dtype)
