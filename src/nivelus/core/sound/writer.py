"""Writing sound files in blocks: WAV (RF64 when it grows past 4 GiB) of 16, 24 or 32-bit float, and FLAC.

A file under its final name is always whole, see ``core.files``. Leaving the ``with`` block by an exception leaves nothing.

Sources: RIFF/WAVE; RF64 and the reserved chunk that becomes ``ds64``: EBU Tech 3306; ``bext``: EBU Tech 3285.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from contextlib import ExitStack
from io import FileIO
from pathlib import Path
from typing import Any, BinaryIO, Self

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import Refused
from nivelus.core.files import whole_file
from nivelus.core.sound.bwf import Bext, write_bext
from nivelus.core.sound.flac import as_riff, say_in_flac
from nivelus.core.sound.pcm import encode24
from nivelus.core.sound.reader import Samples
from nivelus.core.sound.riff import Chunk, packed, tags_of, write_chunks
from nivelus.core.sound_formats import why_not_written


class SoundWriter:
    """A sound file being written; use as a context manager.

    Parameters
    ----------
    path : final name; nothing is there until the block is left without an exception
    sample_rate : Hz
    channels : number of channels
    format : ``wav`` or ``flac``
    bits : 16 or 24, or 32 for 32-bit float (WAV only)
    bext : broadcast chunk to write
    chunks : what else it is to say, see ``core.sound.riff`` and ``core.sound.flac``
    replace : whether it may take the place of a file that is there

    Raises
    ------
    DiskFull, Taken
    """

    def __init__(
        self,
        path: Path,
        sample_rate: int,
        channels: int,
        format: str = "wav",
        bits: int = 24,
        bext: Bext | None = None,
        replace: bool = True,
        chunks: Sequence[Chunk] = (),
    ) -> None:
        if why := why_not_written(format, bits):
            raise Refused(why)
        self.path = path
        self._format, self._bext, self._replace, self._chunks = format, bext, replace, chunks
        self._rate, self._channels, self._bits = sample_rate, channels, bits
        self._tag = 3 if bits == 32 else 1
        self._bytes = 0
        # noise for dither is drawn from a fixed seed: the same render is the same file
        self._random = np.random.Generator(np.random.SFC64(1))
        self._flac: Any = None
        self._watched: _Watched | None = None
        self._wav: BinaryIO | None = None
        self._stack = ExitStack()

    def write(self, block: Samples) -> None:
        """Append samples, (n, channels) float with full scale at +-1.0; what passes full scale is clipped at it."""
        if self._bits == 32:
            data: npt.NDArray[Any] = np.ascontiguousarray(block, dtype="<f4")
        elif self._flac is not None:
            self._write_flac(quantise(block, self._bits, self._random) << (32 - self._bits))
            self._bytes += block.size * self._bits // 8
            return
        elif self._bits == 16:
            data = quantise(block, 16, self._random).astype("<i2")
        else:
            data = np.empty(block.size * 3, np.uint8)
            encode24(np.ascontiguousarray(block).reshape(-1), data)
        assert self._wav is not None
        self._wav.write(data.data)
        self._bytes += data.nbytes

    def __enter__(self) -> Self:
        part = self._stack.enter_context(whole_file(self.path, self._replace))
        try:
            if self._format == "flac":
                self._watched = self._stack.enter_context(_Watched(part, "wb+"))
                self._flac = self._open_flac(self._watched)
            else:
                self._wav = self._stack.enter_context(part.open("wb"))
                self._wav.write(self._header(self._bext))
                self._data_at = self._wav.tell()
        except BaseException as error:
            self._stack.__exit__(type(error), error, error.__traceback__)
            raise
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: Any) -> None:
        try:
            if self._flac is not None:
                self._flac.close()
            if kind is None:
                self._finish()
        except BaseException as late:
            self._stack.__exit__(type(late), late, late.__traceback__)
            raise
        self._stack.__exit__(kind, error, trace)

    def _open_flac(self, handle: _Watched) -> Any:
        import soundfile

        subtype = f"PCM_{self._bits}"
        flac = soundfile.SoundFile(handle, "w", self._rate, self._channels, subtype=subtype, format="FLAC")
        for name, text in tags_of(self._chunks).items():
            setattr(flac, name, text)
        return flac

    def _write_flac(self, whole: npt.NDArray[np.int32]) -> None:
        import soundfile

        assert self._watched is not None
        try:
            self._flac.write(whole)
        except (soundfile.SoundFileError, AssertionError) as error:
            raise self._watched.error or error from error
        self._watched.check()

    def _header(self, bext: Bext | None) -> bytes:
        head = b"RIFF\0\0\0\0WAVE" + b"JUNK" + struct.pack("<I", 28) + b"\0" * 28
        return head + b"".join(self._lead(bext)) + b"data\0\0\0\0"

    def _lead(self, bext: Bext | None) -> list[bytes]:
        """The chunks of a WAV file that stand before its samples."""
        width = self._channels * self._bits // 8
        fmt = struct.pack("<HHIIHH", self._tag, self._channels, self._rate, self._rate * width, width, self._bits)
        chunks = [Chunk(b"bext", write_bext(bext))] if bext is not None else []
        return [packed(*chunk) for chunk in (*chunks, Chunk(b"fmt ", fmt))]

    def _finish(self) -> None:
        if self._watched is not None:
            if self._chunks or self._bext is not None:
                say_in_flac(self._watched, self._chunks, self._lead(self._bext), self._bytes)
            self._watched.check()
        if self._wav is None:
            return
        wav = self._wav
        if self._bytes & 1:
            wav.write(b"\0")
        write_chunks(wav, as_riff(self._chunks))
        riff_size = wav.tell() - 8
        samples = self._bytes // (self._channels * self._bits // 8)
        if riff_size < 0xFFFFFFFF:
            wav.seek(4)
            wav.write(struct.pack("<I", riff_size))
            wav.seek(self._data_at - 4)
            wav.write(struct.pack("<I", self._bytes))
        else:
            wav.seek(0)
            wav.write(b"RF64\xff\xff\xff\xffWAVEds64" + struct.pack("<IQQQI", 28, riff_size, self._bytes, samples, 0))
            wav.seek(self._data_at - 4)
            wav.write(b"\xff\xff\xff\xff")


class CodedWriter(SoundWriter):
    """A WAV file being written from samples that are coded already.

    Parameters
    ----------
    path : final name
    sample_rate : Hz
    channels : number of channels
    coding : ``s16``, ``s24`` or ``s32`` for integers, ``f32`` or ``f64`` for float
    bext, chunks : as of ``SoundWriter``
    """

    def __init__(
        self,
        path: Path,
        sample_rate: int,
        channels: int,
        coding: str,
        bext: Bext | None = None,
        chunks: Sequence[Chunk] = (),
    ) -> None:
        super().__init__(path, sample_rate, channels, bext=bext, chunks=chunks)
        self._tag, self._bits = 3 if coding[0] == "f" else 1, int(coding[1:])

    def write_coded(self, data: memoryview) -> None:
        """Append samples as they stand in the file: little-endian, interleaved."""
        assert self._wav is not None
        self._wav.write(data)
        self._bytes += len(data)


class _Watched(FileIO):
    """A file that an encoder writes to, which keeps what went wrong: the encoder only says that something did."""

    error: OSError | None = None

    def write(self, data: Any, /) -> int:
        rest = memoryview(data).cast("B")
        try:
            while len(rest):
                # a disk that is nearly full takes a part, and says so only at the next call
                rest = rest[super().write(rest) or 0 :]
        except OSError as error:
            self.error = error
            return 0
        return len(data)

    def check(self) -> None:
        """Raise what went wrong."""
        if self.error is not None:
            raise self.error


def quantise(block: Samples, bits: int, random: np.random.Generator | None = None) -> npt.NDArray[np.int32]:
    """Round samples to integers of ``bits`` bits.

    Samples that already lie on an integer pass unchanged, so what was not touched stays bit-identical. At 16 bits all
    others get triangular dither of +-1 step before rounding (common practice), so that fades do not grow gritty.

    Returns
    -------
    int32 of the shape of ``block``, within [-2**(bits-1), 2**(bits-1) - 1]
    """
    full = float(1 << (bits - 1))
    scaled = block.astype(np.float64) * full
    if bits == 16 and random is not None:
        off_grid = scaled != np.rint(scaled)
        if off_grid.any():
            dither = random.random(scaled.shape) - random.random(scaled.shape)
            scaled = np.where(off_grid, scaled + dither, scaled)
    return np.clip(np.rint(scaled), -full, full - 1).astype(np.int32)
