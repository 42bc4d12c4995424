"""Curves of every kind, for hypothesis."""

from __future__ import annotations

import numpy as np
from hypothesis import strategies as st

from nivelus.core.gain.drawn import Curve, Shape, curve_of

times = np.sort(np.random.default_rng(3).uniform(-2.0, 12.0, 3000))


shapes = st.sampled_from(list(Shape))


gains = st.one_of(st.floats(-40, 12), st.just(-np.inf))


@st.composite
def curves(draw: st.DrawFn, finite: bool = False, least: int = 0) -> Curve:
    """Curves of a few points in ten seconds, of every shape, now and then silent."""
    times = draw(st.lists(st.floats(0, 10), min_size=least, max_size=9, unique_by=lambda x: round(x, 3)))
    values = st.floats(-40, 12) if finite else gains
    return curve_of((round(t, 3), draw(values), draw(shapes)) for t in times)
