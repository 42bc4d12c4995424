"""How long a stream really is, where its header does not say it or says something else.

An MP3 without a count in its first frame is only estimated by decoders, from its size and its first bit rates; FLAC that
was written to a pipe says 0. Here frames are counted from their headers, and the decoder reads a ``View`` of the file that
keeps it from stopping early: FLAC with the true length in its header, MP3 as if the file were far longer than it is.
Nothing is decoded, and memory is that of one frame.

Sources: MPEG-1/2 audio frame header: ISO/IEC 11172-3 and 13818-3 (tables from memory, checked against ffmpeg's count in the
tests); the Xing/Info frame: common practice, as LAME and ffmpeg write it; FLAC: RFC 9639.
"""

from __future__ import annotations

import io
import mmap
import os
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

from nivelus.core.stopping import step

_BITRATES = {
    1: (0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320),
    2: (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160),
}
"""kbit/s of layer III by MPEG version (2 also for 2.5)."""
_RATES = {3: (44100, 48000, 32000), 2: (22050, 24000, 16000), 0: (11025, 12000, 8000)}
_LOOK = 1 << 16
_TAG = 128
_LONGER = 64
"""A factor over any between the highest and the lowest bit rate."""
_FLAC_TAIL = 1 << 20
_FLAC_BLOCKS = {1: 192} | {code: 576 << (code - 2) for code in range(2, 6)} | {code: 256 << (code - 8) for code in range(8, 16)}


@dataclass(frozen=True, slots=True)
class Truth:
    """What a decoder has to be told: ``head`` in place of the first ``skip`` bytes, the length in samples, and whether the
    file is to seem longer than it is, because the decoder would stop at its own estimate."""

    head: bytes
    skip: int
    frames: int
    seems_longer: bool = False


class View(io.RawIOBase):
    """A file as a decoder is to see it, see Truth."""

    def __init__(self, path: Path, truth: Truth) -> None:
        self._file = io.BufferedReader(io.FileIO(path), 1 << 16)
        self._head, self._skip, self._at = truth.head, truth.skip, 0
        self._end = len(truth.head) + max(os.fstat(self._file.fileno()).st_size - truth.skip, 0)
        self._size = self._end * _LONGER if truth.seems_longer else self._end

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = os.SEEK_SET, /) -> int:
        base = {os.SEEK_SET: 0, os.SEEK_CUR: self._at, os.SEEK_END: self._size}[whence]
        self._at = max(base + offset, 0)
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: Any, /) -> int:
        into = memoryview(buffer).cast("B")
        done = 0
        if self._at < len(self._head):
            part = self._head[self._at : self._at + len(into)]
            into[: len(part)] = part
            done = len(part)
        if self._at >= max(self._size - _TAG, len(self._head)) and self._size > self._end:
            # decoders look for a tag at the end before anything else
            done = min(len(into), self._size - self._at)
            into[:done] = bytes(done)
        elif done < len(into):
            self._file.seek(self._skip + self._at + done - len(self._head))
            done += self._file.readinto(into[done:])
        self._at += done
        return done

    def close(self) -> None:
        self._file.close()
        super().close()


def true_length(path: Path) -> Truth | None:
    """What has to be told of a file; None where its own header is right, or where it is another format.

    O(frames) for MP3 without a count, O(1) for all else; remembered by name, size and time of change.
    """
    about = path.stat()
    return _true_length(path, about.st_size, about.st_mtime_ns)


@lru_cache(maxsize=64)
def _true_length(path: Path, size: int, _changed: int) -> Truth | None:
    if size < 64:
        return None
    with path.open("rb") as handle, mmap.mmap(handle.fileno(), 0, access=mmap.ACCESS_READ) as data:
        start = _after_id3(data)
        if data[start : start + 4] == b"fLaC":
            return _flac_truth(data, start)
        if data[:4] in (b"RIFF", b"RF64", b"FORM", b"OggS"):
            return None
        return _mp3_truth(data, start)


def _after_id3(data: mmap.mmap) -> int:
    if data[:3] != b"ID3":
        return 0
    a, b, c, d = (byte & 0x7F for byte in data[6:10])
    return min(10 + (a << 21 | b << 14 | c << 7 | d) + (10 if data[5] & 0x10 else 0), len(data))


# --- MP3


def _frame_at(data: mmap.mmap, at: int) -> tuple[int, int] | None:
    """The length in bytes of the layer III frame at ``at``, and what all frames of a stream share; None if there is none."""
    if at + 4 > len(data) or data[at] != 0xFF or data[at + 1] & 0xE6 != 0xE2:
        return None
    b, c, d = data[at + 1], data[at + 2], data[at + 3]
    version, bitrate, rate = b >> 3 & 3, c >> 4, c >> 2 & 3
    if version == 1 or bitrate in (0, 15) or rate == 3:
        return None
    hertz = _RATES[version][rate]
    kind = 1 if version == 3 else 2
    length = (144000 if kind == 1 else 72000) * _BITRATES[kind][bitrate] // hertz + (c >> 1 & 1)
    return length, version << 3 | rate << 1 | (d >> 6 == 3)


def _first_frame(data: mmap.mmap, at: int, kind: int | None) -> int | None:
    """Where the next frame begins that another of its kind, or the end, follows."""
    end = min(len(data) - 4, at + (_LOOK if kind is None else 16 * _LOOK))
    while at < end:
        step()
        at = data.find(b"\xff", at, end)
        if at < 0:
            return None
        found = _frame_at(data, at)
        if found and kind in (None, found[1]):
            following = _frame_at(data, at + found[0])
            if (following and following[1] == found[1]) or at + found[0] == len(data):
                return at
        at += 1
    return None


def _mp3_frames(data: mmap.mmap, at: int, kind: int) -> Iterator[int]:
    """The beginnings of all whole frames from the one at ``at`` on; what lies between them is passed over."""
    while True:
        step()
        found = _frame_at(data, at)
        if found is None or found[1] != kind:
            following = _first_frame(data, at, kind)
            if following is None:
                return
            at = following
            continue
        if at + found[0] > len(data):
            return
        yield at
        at += found[0]


def _mp3_truth(data: mmap.mmap, start: int) -> Truth | None:
    first = _first_frame(data, start, None)
    if first is None:
        return None
    length, kind = _frame_at(data, first) or (0, 0)
    at = first + 4 + _side_info(data, first)
    is_info = data[at : at + 4] in (b"Xing", b"Info")
    said = 0
    if is_info and data[at + 7] & 1:
        said = int.from_bytes(data[at + 8 : at + 12], "big")
    elif data[first + 36 : first + 40] == b"VBRI":
        said, is_info = int.from_bytes(data[first + 50 : first + 54], "big"), True
    # a first frame that is there to hold a count is no sound
    begin = first + length if is_info else first
    frames = sum(1 for _ in _mp3_frames(data, begin, kind))
    if not frames or (said and frames <= said + 1):
        return None
    samples = 1152 if data[first + 1] >> 3 & 3 == 3 else 576
    return Truth(b"", begin, frames * samples, seems_longer=True)


def _side_info(data: mmap.mmap, at: int) -> int:
    """Bytes of side information in a frame."""
    mono = data[at + 3] >> 6 == 3
    if data[at + 1] >> 3 & 3 == 3:
        return 17 if mono else 32
    return 9 if mono else 17


# --- FLAC


def _flac_truth(data: mmap.mmap, start: int) -> Truth | None:
    info = data[start + 8 : start + 42]
    if len(info) < 34 or data[start + 4] & 0x7F:
        return None
    said = int.from_bytes(info[13:18], "big") & (1 << 36) - 1
    # what stands behind the length that is said decodes as well; less than is said is a file that was cut short
    total = max(_flac_samples(data, int.from_bytes(info[2:4], "big")) or 0, said)
    if not total or (total == said and start == 0):
        return None
    patched = int.from_bytes(info[13:18], "big") & ~((1 << 36) - 1) | total
    return Truth(data[start : start + 8] + info[:13] + patched.to_bytes(5, "big") + info[18:], start + 42, total)


def _flac_samples(data: mmap.mmap, block: int) -> int | None:
    """Where the last whole frame of a FLAC stream ends, in samples.

    Found from the end: a frame begins with a header whose CRC-8 fits, and its bytes up to the next, or to the end of the
    file, have a CRC-16 of 0.
    """
    low = max(42, len(data) - _FLAC_TAIL)
    end = len(data)
    at = end
    while True:
        at = data.rfind(b"\xff", low, at)
        if at < 0:
            return None
        header = _flac_header(data, at)
        if header is None:
            continue
        number, size, variable = header
        if _crc16(data[at:end]) == 0:
            return number + size if variable else number * block + size
        end = at


def _flac_header(data: mmap.mmap, at: int) -> tuple[int, int, bool] | None:
    """Number (of the frame, or of its first sample), size in samples and whether sizes vary, of the frame at ``at``."""
    if at + 6 > len(data) or data[at + 1] & 0xFE != 0xF8:
        return None
    size_code, rate_code = data[at + 2] >> 4, data[at + 2] & 15
    if size_code == 0 or rate_code == 15 or data[at + 3] & 1:
        return None
    lead = data[at + 4]
    more = 0 if lead < 0x80 else 8 - (~lead & 0xFF).bit_length()
    if more == 1 or more > 7 or (more == 0 and lead >= 0x80):
        return None
    more = max(more - 1, 0)
    number = lead if lead < 0x80 else lead & (0x3F >> more)
    place = at + 5
    for byte in data[place : place + more]:
        if byte & 0xC0 != 0x80:
            return None
        number = number << 6 | byte & 0x3F
    place += more
    size = _FLAC_BLOCKS.get(size_code, 0)
    if size_code in (6, 7):
        width = size_code - 5
        size = int.from_bytes(data[place : place + width], "big") + 1
        place += width
    place += {12: 1, 13: 2, 14: 2}.get(rate_code, 0)
    if place >= len(data) or _crc8(data[at:place]) != data[place]:
        return None
    return number, size, bool(data[at + 1] & 1)


def _crc8(raw: bytes) -> int:
    crc = 0
    for byte in raw:
        crc = _CRC8[crc ^ byte]
    return crc


def _crc16(raw: bytes) -> int:
    crc = 0
    for byte in raw:
        crc = (crc << 8 & 0xFFFF) ^ _CRC16[crc >> 8 ^ byte]
    return crc


def _table(polynomial: int, bits: int) -> tuple[int, ...]:
    top, mask = 1 << (bits - 1), (1 << bits) - 1
    out = []
    for value in range(256):
        crc = value << (bits - 8)
        for _ in range(8):
            crc = (crc << 1 ^ polynomial if crc & top else crc << 1) & mask
        out.append(crc)
    return tuple(out)


_CRC8 = _table(0x07, 8)
_CRC16 = _table(0x8005, 16)
