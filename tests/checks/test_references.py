"""Our loudness beside two public libraries on the same samples: libebur128 (Debian, through ctypes) and pyloudnorm.

pyloudnorm differs from the others by some hundredths of a LU on long programmes and is held to a wider tolerance.
"""

from __future__ import annotations

import ctypes
import ctypes.util
from collections.abc import Callable
from typing import Any

import numpy as np
import pyloudnorm
import pytest

from nivelus.core.measure.grid import measure_file, measure_samples
from nivelus.core.measure.loudness import figures
from tests.conftest import CORPUS, uneven_voice

# the library's modes: integrated, loudness range and true peak, with what they rest on
MODES = 0b111111


@pytest.fixture(scope="module")
def ebur128() -> Any:
    name = ctypes.util.find_library("ebur128")
    assert name, "libebur128 is missing: run `make test`, which installs it"
    library = ctypes.CDLL(name)
    library.ebur128_init.restype = ctypes.c_void_p
    library.ebur128_init.argtypes = [ctypes.c_uint, ctypes.c_ulong, ctypes.c_int]
    library.ebur128_add_frames_double.argtypes = [ctypes.c_void_p, ctypes.c_void_p, ctypes.c_size_t]
    for call in ("loudness_global", "loudness_range"):
        getattr(library, f"ebur128_{call}").argtypes = [ctypes.c_void_p, ctypes.POINTER(ctypes.c_double)]
    library.ebur128_true_peak.argtypes = [ctypes.c_void_p, ctypes.c_uint, ctypes.POINTER(ctypes.c_double)]
    return library


def reference(library: Any, samples: np.ndarray, rate: int) -> dict[str, float]:
    samples = np.ascontiguousarray(samples, np.float64)
    state = library.ebur128_init(samples.shape[1], rate, MODES)
    library.ebur128_add_frames_double(state, samples.ctypes.data, len(samples))

    def ask(call: Callable[..., int], *arguments: Any) -> float:
        value = ctypes.c_double()
        assert call(ctypes.c_void_p(state), *arguments, ctypes.byref(value)) == 0
        return value.value

    peaks = [ask(library.ebur128_true_peak, channel) for channel in range(samples.shape[1])]
    return {
        "integrated": ask(library.ebur128_loudness_global),
        "range": ask(library.ebur128_loudness_range),
        "true_peak": 20 * np.log10(max(peaks)),
    }


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("seed", range(3))
def test_random_programmes_read_as_libebur128_reads_them(ebur128: Any, rate: int, channels: int, seed: int) -> None:
    random = np.random.default_rng(seed)
    steps = np.repeat(10 ** (random.uniform(-40, -10, 24) / 20), rate)
    samples = steps[:, None] * random.standard_normal((len(steps), channels)) * 0.25
    ours, theirs = figures(measure_samples(samples, rate)), reference(ebur128, samples, rate)
    # the grid is float32: 24 bits of each frame's power
    assert ours.integrated == pytest.approx(theirs["integrated"], abs=1e-5)
    assert ours.loudness_range == pytest.approx(theirs["range"], abs=1e-4)


@pytest.mark.parametrize("name", ["dev_01", "dev_04"])
def test_a_voice_programme_reads_as_both_libraries_read_it(ebur128: Any, name: str) -> None:
    import soundfile

    samples, rate = soundfile.read(CORPUS / f"{name}.flac", always_2d=True)
    ours = figures(measure_file(CORPUS / f"{name}.flac")[1])
    theirs = reference(ebur128, samples, rate)
    assert ours.integrated == pytest.approx(theirs["integrated"], abs=1e-4)
    assert ours.loudness_range == pytest.approx(theirs["range"], abs=0.02)
    # the library's interpolator is shorter and reads up to 0.3 dB low (BS.1770 Annex 2)
    assert theirs["true_peak"] - 0.05 <= ours.true_peak <= theirs["true_peak"] + 0.4
    assert ours.integrated == pytest.approx(pyloudnorm.Meter(rate).integrated_loudness(samples), abs=0.1)


def test_gated_silence_around_a_voice_changes_nothing_for_either(ebur128: Any) -> None:
    voice = uneven_voice()
    padded = np.concatenate([np.zeros(48_000 * 5), voice, np.zeros(48_000 * 5)])
    plain, more = figures(measure_samples(voice, 48_000)), figures(measure_samples(padded, 48_000))
    assert more.integrated == pytest.approx(plain.integrated, abs=0.2)
    assert more.integrated == pytest.approx(reference(ebur128, padded[:, None], 48_000)["integrated"], abs=1e-4)
