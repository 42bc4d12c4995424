"""The filters of the level grid: K-weighting, bands of a voice, and the true peak interpolator.

Sources
-------
K-weighting: ITU-R BS.1770-5, Annex 1, given there as coefficients for 48 kHz. The analogue parameters that reproduce
them at any rate (centre, gain and Q of the shelf, corner and Q of the high-pass) are the ones libebur128 publishes.
Second-order sections by bilinear transform: R. Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter
coefficients". True peak: BS.1770-5 Annex 2, with a longer interpolator than its 48 taps, which reads up to 0.3 dB low.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]

TRUE_PEAK_TAPS = 24
"""Taps of each of the three interpolated phases (fourfold oversampling)."""

BAND_EDGES = ((200.0, 1000.0), (1000.0, 4000.0), (4500.0, None), (None, 150.0), (600.0, 2500.0))
"""Bands in Hz: where vowels stand, where consonants and breaths stand, where esses stand, where plosives thump, and
where the air of an f or a released t stands but not that of an ess."""


def k_weighting(rate: float) -> FloatArray:
    """Second-order sections of the K-weighting at ``rate`` Hz: (2, 5) rows of b0 b1 b2 a1 a2."""
    k = math.tan(math.pi * 1681.974450955533 / rate)
    q, gain = 0.7071752369554196, 10 ** (3.999843853973347 / 20)
    band = gain**0.4996667741545416
    a0 = 1 + k / q + k * k
    shelf = [
        (gain + band * k / q + k * k) / a0,
        2 * (k * k - gain) / a0,
        (gain - band * k / q + k * k) / a0,
        2 * (k * k - 1) / a0,
        (1 - k / q + k * k) / a0,
    ]
    k, q = math.tan(math.pi * 38.13547087602444 / rate), 0.5003270373238773
    a0 = 1 + k / q + k * k
    return np.array([shelf, [1.0, -2.0, 1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0]])


def voice_bands(rate: float) -> FloatArray:
    """Sections of the bands at ``rate`` Hz: (5, 2, 5); edges past Nyquist are brought below it."""
    top = 0.45 * rate
    rows = []
    for low, high in BAND_EDGES:
        # a band that is open on one side is cut twice on the other
        edges = [_section(rate, min(low, 0.8 * top), high_pass=True)] if low is not None else []
        edges += [_section(rate, min(high, top), high_pass=False)] if high is not None else []
        rows.append(edges * 2 if len(edges) == 1 else edges)
    return np.array(rows)


def high_pass(corner: float, rate: float) -> FloatArray:
    """A second-order section, (5,) b0 b1 b2 a1 a2, that takes away what lies below ``corner`` Hz at ``rate`` Hz."""
    return np.array(_section(rate, corner, high_pass=True))


def _section(rate: float, corner: float, high_pass: bool) -> list[float]:
    w = 2 * math.pi * corner / rate
    alpha, cos = math.sin(w) / math.sqrt(2), math.cos(w)
    a0 = 1 + alpha
    edge = (1 + cos) / 2 if high_pass else (1 - cos) / 2
    middle = -2 * edge if high_pass else 2 * edge
    return [edge / a0, middle / a0, edge / a0, -2 * cos / a0, (1 - alpha) / a0]


def true_peak_phases() -> FloatArray:
    """Interpolators for a quarter, a half and three quarters of a sample: (3, TRUE_PEAK_TAPS).

    Kaiser-windowed sinc (beta 6), each normalised to unit gain at 0 Hz. Tap ``t`` multiplies the sample
    ``t - TRUE_PEAK_TAPS / 2 + 1`` places from the one before the interpolated point.
    """
    half = TRUE_PEAK_TAPS // 2
    offset = np.arange(TRUE_PEAK_TAPS) - half + 1
    rows = []
    for fraction in (0.25, 0.5, 0.75):
        distance = offset - fraction
        window = np.i0(6.0 * np.sqrt(np.clip(1 - (distance / half) ** 2, 0, 1))) / np.i0(6.0)
        taps = np.sinc(distance) * window
        rows.append(taps / taps.sum())
    return np.array(rows)
