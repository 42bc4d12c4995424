"""Curves that clips own: heard in their clip only, joined without clicks; and the working range that holds what is drawn."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nivelus.core.errors import GainError
from nivelus.core.gain.clip_curves import heard, join_clip_curves, part
from nivelus.core.gain.clips import DECLICK_SECONDS
from nivelus.core.gain.compile import compile_curves
from nivelus.core.gain.drawn import EMPTY, FINE, SILENT, Curve, Shape, curve_of
from nivelus.core.gain.edits import lift
from nivelus.core.gain.together import limit
from tests.helpers.clips import ClipGain, compiled, spans_of
from tests.helpers.curves import curves
from tests.helpers.near import near

RATE = 1000
CLIPS = [ClipGain(0, 2000, 0.0, 200, 1800), ClipGain(2000, 4000, 0.0, 2300, 3900), ClipGain(4000, 9000, 0.0, 4005, 8000)]
AT = np.linspace(0.0, 9.0, 3001)


@given(st.lists(curves(), min_size=3, max_size=3))
def test_each_clip_is_heard_with_its_own_curve_but_for_the_ramps_at_its_borders(own: list[Curve]) -> None:
    joined = join_clip_curves(spans_of(CLIPS), own, RATE)
    for clip, curve in zip(CLIPS, own, strict=True):
        at = AT[np.abs(AT - (clip.start + clip.end) / 2 / RATE) < (clip.end - clip.start) / 2 / RATE - 0.031]
        assert joined.finite_at(at) == near(curve.finite_at(at), abs=2 * FINE)


def test_neighbours_of_different_values_meet_in_a_ramp_as_wide_as_that_of_clip_gains() -> None:
    own = [curve_of([(0.0, -6.0)]), EMPTY, curve_of([(0.0, 3.0)])]
    gains = [ClipGain(c.start, c.end, db, c.phrase_start, c.phrase_end) for c, db in zip(CLIPS, (-6.0, 0.0, 3.0), strict=True)]
    expected = compiled(gains, RATE)
    joined = compile_curves([join_clip_curves(spans_of(CLIPS), own, RATE)], RATE)
    assert np.interp(AT * RATE, joined.at, joined.db) == near(np.interp(AT * RATE, expected.at, expected.db), abs=0.05)


def test_a_lift_over_a_border_is_heard_without_a_seam() -> None:
    own = [lift(EMPTY, 1.0, 3.0, 4.0, 0.06, 0.06)] * 2 + [EMPTY]
    joined = join_clip_curves(spans_of(CLIPS), own, RATE)
    assert joined.finite_at(AT) == near(own[0].finite_at(AT))


def test_what_lies_outside_of_a_clip_is_kept_and_not_heard() -> None:
    curve = curve_of([(1.0, -3.0), (2.5, 5.0, Shape.SMOOTH), (3.0, 1.0)])
    assert heard(curve, 0.0, 2.0).tolist() == [True, False, False]
    own = part(curve, 0.0, 2.0)
    assert own.finite_at(AT[AT <= 2.0]) == near(curve.finite_at(AT[AT <= 2.0]))
    assert not join_clip_curves(spans_of(CLIPS), [curve, EMPTY, EMPTY], RATE).finite_at(AT[AT > 2.1]).any()
    assert part(EMPTY, 0.0, 1.0) is EMPTY
    assert join_clip_curves(spans_of(CLIPS), [EMPTY] * 3, RATE) is EMPTY
    with pytest.raises(GainError, match="follow each other"):
        spans_of([CLIPS[1], CLIPS[0]])


@given(curves(), st.floats(-30, -1), st.floats(1, 8))
def test_a_curve_is_held_within_a_range_exactly(curve: Curve, low: float, high: float) -> None:
    held = limit(curve, low, high)
    at = np.linspace(-1, 12, 2001)
    expected = np.clip(curve.finite_at(at), low, high)
    # where it meets an end of the range time is whole microseconds, which a steep way feels
    slope = np.abs(np.gradient(curve.finite_at(at), at[1] - at[0]))
    calm = slope < 200
    assert held.finite_at(at)[calm] == near(expected[calm], abs=2 * FINE)
    assert held.finite_at(at).min() >= low - 1e-9
    assert held.finite_at(at).max() <= high + 1e-9


def test_silence_passes_a_range_that_goes_down_to_it() -> None:
    curve = curve_of([(0.0, 0.0), (1.0, -np.inf), (2.0, 0.0)])
    assert limit(curve, SILENT, 6.0) is curve
    assert compile_curves([curve], RATE, -20.0, 6.0).db.min() == -20.0
    assert compile_curves([curve], RATE).db.min() == SILENT


def test_a_step_into_the_range_does_not_click() -> None:
    compiled = compile_curves([curve_of([(1.0, 0.0), (1.000001, 50.0)])], RATE, -20.0, 6.0)
    steepest = np.max(np.abs(np.diff(compiled.db)) / np.diff(compiled.at / RATE))
    assert steepest <= 1.01 * 6.0 / (0.6 * DECLICK_SECONDS)
