"""What a render holds."""

from __future__ import annotations

import numpy as np

from nivelus.core.gain.compiled import apply_gain
from nivelus.core.sound.timeline import open_sound
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench


def rendered(bench: Workbench, track: str) -> tuple[np.ndarray, np.ndarray]:
    """A track without gain and as it would be rendered, (n,) each."""
    source, _, state, _ = sound.render_source(bench, track)
    with open_sound(source) as reader:
        samples = reader.read(0, state.samples)
    return samples[:, 0], apply_gain(samples, state.gain, 0)[:, 0]


def power(samples: np.ndarray, start: float, end: float) -> float:
    part = samples[round(start * 48_000) : round(end * 48_000)].astype(np.float64)
    return float(10 * np.log10(np.mean(part**2)))
