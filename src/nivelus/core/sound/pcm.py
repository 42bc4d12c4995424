"""Little-endian PCM to float and back, compiled by Numba: what most of a long file's time would else be spent on.

float32 has a 24-bit significand, so 16- and 24-bit samples become floats and integers again without a change.
"""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
import numpy.typing as npt

Bytes = npt.NDArray[np.uint8]
CODINGS = {"s16": ("<i2", 15), "s24": ("", 23), "s32": ("<i4", 31), "f32": ("<f4", 0), "f64": ("<f8", 0)}
"""How samples stand in a file: as what, and at which power of two full scale is."""


@numba.njit(nogil=True, cache=True)
def decode16(raw: Bytes, out: npt.NDArray[np.float32]) -> None:
    """Read 16-bit samples from ``raw`` (n * 2 bytes) into ``out`` (n,) at full scale +-1.0."""
    for i in range(len(out)):
        value = np.int16(np.uint16(raw[2 * i]) | (np.uint16(raw[2 * i + 1]) << np.uint16(8)))
        out[i] = np.float32(value) * np.float32(1 / 32768)


@numba.njit(nogil=True, cache=True)
def decode24(raw: Bytes, out: npt.NDArray[np.float32]) -> None:
    """Read 24-bit samples from ``raw`` (n * 3 bytes) into ``out`` (n,) at full scale +-1.0."""
    for i in range(len(out)):
        # the three bytes fill the upper part of an int32, which has the sign where it belongs
        low = np.uint32(raw[3 * i]) << np.uint32(8)
        middle = np.uint32(raw[3 * i + 1]) << np.uint32(16)
        high = np.uint32(raw[3 * i + 2]) << np.uint32(24)
        out[i] = np.float32(np.int32(low | middle | high)) * np.float32(1 / 2147483648)


@numba.njit(nogil=True, cache=True)
def encode24(samples: npt.NDArray[Any], out: Bytes) -> None:
    """Round ``samples`` (n,) to 24 bits into ``out`` (n * 3 bytes); what passes full scale is clipped."""
    for i in range(len(samples)):
        value = np.rint(np.float64(samples[i]) * 8388608.0)
        whole = np.int32(min(max(value, -8388608.0), 8388607.0))
        out[3 * i] = np.uint8(whole & 0xFF)
        out[3 * i + 1] = np.uint8((whole >> 8) & 0xFF)
        out[3 * i + 2] = np.uint8((whole >> 16) & 0xFF)


def from_coded(data: Any, coding: str) -> npt.NDArray[np.floating[Any]]:
    """Samples, (n,) at full scale +-1.0, from those of a file; float64 where float32 does not hold them.

    ``data`` are bytes, ``coding`` is one of CODINGS.
    """
    if coding == "s24":
        out = np.empty(len(data) // 3, np.float32)
        decode24(np.frombuffer(data, np.uint8), out)
        return out
    kind, power = CODINGS[coding]
    raw: npt.NDArray[Any] = np.frombuffer(data, kind)
    return raw / (np.float32 if coding == "s16" else np.float64)(2**power) if power else raw


def to_coded(samples: npt.NDArray[np.floating[Any]], coding: str) -> memoryview:
    """Samples, (n,) at full scale +-1.0, as they stand in a file; the other way round than ``from_coded``."""
    if coding == "s24":
        packed = np.empty(len(samples) * 3, np.uint8)
        encode24(samples.astype(np.float32, copy=False), packed)
        return packed.data
    kind, power = CODINGS[coding]
    out: npt.NDArray[Any] = np.rint(samples * 2**power) if power else samples
    return out.astype(kind).data.cast("B")
