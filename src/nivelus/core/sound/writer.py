"""Writing sound files in blocks: WAV (RF64 when it grows past 4 GiB) of 16, 24 or 32-bit float, and FLAC.

A file is written under a temporary name beside its final one and renamed when it is complete and flushed, so that
a file under the final name is always whole. Leaving the ``with`` block by an exception removes the temporary file.

Sources: RIFF/WAVE; RF64 and the reserved chunk that becomes ``ds64``: EBU Tech 3306; ``bext``: EBU Tech 3285.
"""

from __future__ import annotations

import os
import struct
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import Refused
from nivelus.core.sound.bwf import Bext, write_bext
from nivelus.core.sound.pcm import encode24
from nivelus.core.sound.reader import Samples

FORMATS = ("wav", "flac")
WAV_BITS = (16, 24, 32)


class SoundWriter:
    """A sound file being written; use as a context manager.

    Parameters
    ----------
    path : final name; nothing is there until the block is left without an exception
    sample_rate : Hz
    channels : number of channels
    format : ``wav`` or ``flac``
    bits : 16 or 24, or 32 for 32-bit float (WAV only)
    bext : broadcast chunk to write (WAV only)
    """

    def __init__(
        self, path: Path, sample_rate: int, channels: int, format: str = "wav", bits: int = 24, bext: Bext | None = None
    ) -> None:
        if format not in FORMATS or bits not in WAV_BITS or (format == "flac" and bits == 32):
            raise Refused(f"{format.upper()} with {bits} bits is not written. WAV takes 16, 24 or 32 (float), FLAC 16 or 24.")
        self.path = path
        self._part = path.with_name(f".{path.name}.{os.getpid()}.part")
        self._rate, self._channels, self._bits = sample_rate, channels, bits
        self._bytes = 0
        # noise for dither is drawn from a fixed seed: the same render is the same file
        self._random = np.random.Generator(np.random.SFC64(1))
        self._flac: Any = None
        self._wav: BinaryIO | None = None
        if format == "flac":
            import soundfile

            self._flac = soundfile.SoundFile(str(self._part), "w", sample_rate, channels, subtype=f"PCM_{bits}", format="FLAC")
        else:
            self._wav = self._part.open("wb")
            self._wav.write(self._header(bext))
            self._data_at = self._wav.tell()

    def write(self, block: Samples) -> None:
        """Append samples, (n, channels) float with full scale at +-1.0; what passes full scale is clipped at it."""
        if self._bits == 32:
            data: npt.NDArray[Any] = np.ascontiguousarray(block, dtype="<f4")
        elif self._flac is not None:
            self._flac.write(quantise(block, self._bits, self._random) << (32 - self._bits))
            return
        elif self._bits == 16:
            data = quantise(block, 16, self._random).astype("<i2")
        else:
            data = np.empty(block.size * 3, np.uint8)
            encode24(np.ascontiguousarray(block).reshape(-1), data)
        assert self._wav is not None
        self._wav.write(data.data)
        self._bytes += data.nbytes

    def __enter__(self) -> SoundWriter:
        return self

    def __exit__(self, kind: object, *_: object) -> None:
        try:
            if kind is None:
                self._finish()
        finally:
            if self._flac is not None:
                self._flac.close()
            if self._wav is not None:
                self._wav.close()
            if kind is not None:
                self._part.unlink(missing_ok=True)
        if kind is None:
            with self._part.open("rb") as handle:
                os.fsync(handle.fileno())
            self._part.replace(self.path)

    def _header(self, bext: Bext | None) -> bytes:
        width = self._channels * self._bits // 8
        tag = 3 if self._bits == 32 else 1
        fmt = struct.pack("<HHIIHH", tag, self._channels, self._rate, self._rate * width, width, self._bits)
        head = b"RIFF\0\0\0\0WAVE" + b"JUNK" + struct.pack("<I", 28) + b"\0" * 28
        if bext is not None:
            body = write_bext(bext)
            head += b"bext" + struct.pack("<I", len(body)) + body
        return head + b"fmt " + struct.pack("<I", len(fmt)) + fmt + b"data\0\0\0\0"

    def _finish(self) -> None:
        if self._wav is None:
            return
        wav = self._wav
        if self._bytes & 1:
            wav.write(b"\0")
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
