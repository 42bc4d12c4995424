"""Reading sound files in blocks, whatever their format.

Conventions
-----------
Samples are ``(n, channels)`` float32 with full scale at +-1.0 (float64 where the file holds more than 24 bits).
float32 has a 24-bit significand, so every 16- and 24-bit integer sample is represented exactly.
Positions are counted in samples from the start of the file.

Decoding is libsndfile's (through ``soundfile``); what it does silently - shortening a damaged file to what is
there, guessing the length of a stream - is checked for here, so that a truncated file is named as such and all of a whole
one is read. What a header claims decides neither how much memory is taken nor how long a file is walked through.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from io import FileIO
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import EmptySound, NotSound, SoundError, TruncatedSound
from nivelus.core.files import check_readable
from nivelus.core.sound.bwf import Bext, parse_bext
from nivelus.core.sound.flac import bext_in_flac, read_flac, read_id3, read_vorbis
from nivelus.core.sound.lengths import View, true_length
from nivelus.core.sound.refusals import MAX_CHANNELS, cut_short, no_samples, not_sound, too_many, unfit_rate
from nivelus.core.sound.riff import MOST_BYTES, TAGS, Chunk, read_chunks, tag_chunks, walk
from nivelus.core.sound_formats import OF_DECODER, every_format

_DEEP = {"PCM_32", "DOUBLE"}
_LEAD_SECONDS = 0.2
_SAYING = {"wav": read_chunks, "flac": read_flac, "ogg": read_vorbis}
"""What reads all that files of a kind say."""
_LONGEST = 1 << 48
"""Samples; what claims more than some years of sound is no length."""

Samples = npt.NDArray[np.floating[Any]]


@dataclass(frozen=True, slots=True)
class SoundInfo:
    """What a sound file says of itself."""

    sample_rate: int
    channels: int
    frames: int
    format: str
    subtype: str
    bext: Bext | None = None

    @property
    def duration(self) -> float:
        """Length in seconds."""
        return self.frames / self.sample_rate

    @property
    def bits(self) -> int:
        """Integer word length of the samples: 16 or 24, or 32 for float and deeper formats."""
        return {"PCM_16": 16, "PCM_24": 24, "PCM_S8": 16, "PCM_U8": 16}.get(self.subtype, 32)

    @property
    def seeks_exactly(self) -> bool:
        """Whether reading from the middle gives the very samples that reading through would."""
        return not OF_DECODER[self.format].is_lossy


class SoundReader:
    """An open sound file that is read by position.

    Parameters
    ----------
    path : file to read
    name : what to call the file in messages; its own name if not given
    channels : how many it may have

    Raises
    ------
    FileError
        If ``path`` is no file that can be read.
    NotSound, EmptySound, TruncatedSound, UnfitSound
    """

    def __init__(self, path: Path, name: str | None = None, channels: int = MAX_CHANNELS) -> None:
        import soundfile

        self.name, self._path = name or path.name, path
        self._handle: FileIO | None = None
        check_readable(path)
        try:
            size = path.stat().st_size
            with path.open("rb") as handle:
                if size == 0:
                    raise EmptySound(f"“{self.name}” is empty: the file has no content. Export it again.", file=self.name)
                bext, data = _inspect_container(handle, size, self.name)
            truth = true_length(path)
            self._view = View(path, truth) if truth else None
            # a name may be anything but text
            self._file = _open(self._view or os.fsencode(path))
        except SoundError:
            raise
        except (OSError, soundfile.SoundFileError) as error:
            raise not_sound(self.name) from error
        file = self._file
        known = OF_DECODER.get(file.format)
        if known is None or known.coding not in (None, file.subtype):
            self.close()
            raise NotSound(
                f"“{self.name}” is {file.format_info}, which is not read. Use {every_format('or')}.",
                file=self.name,
            )
        if file.channels > channels:
            self.close()
            raise too_many(self.name, file.channels)
        if unfit := unfit_rate(self.name, file.samplerate):
            self.close()
            raise unfit
        if known.name == "flac" and (raw := bext_in_flac(path)) is not None:
            bext = parse_bext(raw)
        frames = truth.frames if truth else file.frames
        if not 0 < frames < _LONGEST:
            self.close()
            raise no_samples(self.name)
        self.info = SoundInfo(file.samplerate, file.channels, frames, file.format, file.subtype, bext)
        self._dtype = "float64" if file.subtype in _DEEP else "float32"
        self._at = 0
        self._data = data if _plain_samples(self.info, data, size) else None
        if self._data is not None:
            self._handle = FileIO(path)

    def read(self, start: int, frames: int) -> Samples:
        """Read ``frames`` samples from ``start`` on; shorter only at the end of the file.

        Returns
        -------
        (n, channels) float32, or float64 for 32-bit integer and 64-bit float files

        Raises
        ------
        TruncatedSound
            If the file has fewer samples than its header says.
        """
        import soundfile

        start = min(max(start, 0), self.info.frames)
        frames = min(frames, self.info.frames - start)
        if self._handle is not None:
            return self._read_plain(start, frames)
        try:
            if start != self._at:
                self._jump(start)
            block: Samples = self._file.read(frames, dtype=self._dtype, always_2d=True)
        except soundfile.SoundFileError as error:
            raise self._truncated(start) from error
        self._at = start + len(block)
        if len(block) < frames:
            raise self._truncated(self._at)
        return block

    def _read_plain(self, start: int, frames: int) -> Samples:
        from nivelus.core.sound.pcm import decode16, decode24

        assert self._handle is not None
        assert self._data is not None
        width = self.info.channels * self.info.bits // 8
        raw = np.empty(frames * width, np.uint8)
        self._handle.seek(self._data + start * width)
        if self._handle.readinto(raw.data) != len(raw):
            raise self._truncated(start)
        out = np.empty((frames, self.info.channels), np.float32)
        (decode16 if self.info.bits == 16 else decode24)(raw, out.reshape(-1))
        return out

    def _jump(self, start: int) -> None:
        # a lossy frame needs those before it: decode a little on the way, else the first samples are wrong
        lead = 0 if self.info.seeks_exactly else min(start, round(_LEAD_SECONDS * self.info.sample_rate))
        self._file.seek(start - lead)
        if lead:
            self._file.read(lead, dtype=self._dtype)

    def blocks(self, frames: int = 1 << 18) -> Iterator[Samples]:
        """Read the whole file, ``frames`` samples at a time."""
        for start in range(0, self.info.frames, frames):
            yield self.read(start, frames)

    def chunks(self, most: int = MOST_BYTES) -> tuple[Chunk, ...]:
        """What the file says besides its sound, so many bytes at most; see ``core.sound.riff`` and ``core.sound.flac``."""
        name = OF_DECODER[self.info.format].name
        if name in _SAYING:
            return _SAYING[name](self._path, most)
        tags = tag_chunks({name: getattr(self._file, name) for name in TAGS})
        return (*tags, *read_id3(self._path, most)) if name == "mp3" else tags

    def close(self) -> None:
        """Close the file."""
        self._file.close()
        for opened in (self._handle, self._view):
            if opened is not None:
                opened.close()

    def _truncated(self, at: int) -> TruncatedSound:
        return cut_short(self.name, at / self.info.sample_rate, self.info.duration)

    def __enter__(self) -> SoundReader:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _open(source: bytes | View) -> Any:
    """Open a file so that reading on reads on.

    soundfile seeks after every read of a seekable file; with MP3 that throws the decoder's memory away and the next
    block begins with wrong samples. Saying that the file does not seek keeps it from doing so.
    """
    import soundfile

    class Forward(soundfile.SoundFile):  # type: ignore[misc]
        def seekable(self) -> bool:
            return False

    return Forward(source)


def _plain_samples(info: SoundInfo, data: int | None, size: int) -> bool:
    """Whether the samples lie in the file as 16- or 24-bit integers from byte ``data`` on, all of them."""
    if data is None or info.format not in {"WAV", "WAVEX", "RF64"} or info.subtype not in {"PCM_16", "PCM_24"}:
        return False
    return size >= data + info.frames * info.channels * info.bits // 8


def _inspect_container(handle: BinaryIO, size: int, name: str) -> tuple[Bext | None, int | None]:
    """Walk the chunks of a RIFF, RF64 or AIFF file: is all of its sound there, and does it carry a BWF stamp?

    The second answer is where the samples of a WAV file begin, in bytes.

    Sources: RIFF/WAVE; RF64: EBU Tech 3306; BWF: EBU Tech 3285; AIFF 1.3. An Ogg stream must end in a page
    with the end-of-stream flag (RFC 3533).
    """
    head = handle.read(12)
    kind, form = head[:4], head[8:12]
    cut = TruncatedSound(f"“{name}” is cut short: it ends before its header says. Copy or export it again.", file=name)
    if kind == b"OggS":
        handle.seek(max(0, size - 131_072))
        tail = handle.read()
        last = tail.rfind(b"OggS")
        if last < 0 or last + 5 >= len(tail) or not tail[last + 5] & 0x04:
            raise cut
        return None, None
    if kind in (b"RIFF", b"RF64") and form == b"WAVE":
        order = "<"
    elif kind == b"FORM" and form in (b"AIFF", b"AIFC"):
        order = ">"
    else:
        return None, None
    bext = found = None
    for chunk, at, length in walk(handle, size, order):
        if chunk == b"bext":
            handle.seek(at)
            bext = parse_bext(handle.read(min(length, 1 << 20)))
        elif chunk in (b"data", b"SSND"):
            found = at
            if at + length > size:
                raise cut
    if found is None:
        raise cut
    return bext, found if order == "<" else None
