"""Phrases settle: what must hold of every gain that gives back what was taken, whatever limits there are."""

from __future__ import annotations

import numpy as np
import pytest

from nivelus.core.drafts.clip_gain import ClipGainRule
from nivelus.core.drafts.settle import LEAST, OVER, settle

TARGET, TOLERANCE = -18.0, 1.5
FAR = 60.0
"""dB to a limit that is not in the way."""


def settled(
    gain: float, off: float, moved: float, to_ceiling: float = FAR, to_noise: float = FAR, **rule: float
) -> tuple[float, str]:
    """The gain of one phrase, which is ``off`` dB from the target, after other gain has moved it, and what is told.

    ``to_ceiling`` and ``to_noise`` are dB that it may go up by until it meets them.
    """
    limits = ClipGainRule(TARGET, TOLERANCE, **rule)
    before = TARGET + off - gain
    result = settle(
        np.array([gain]),
        np.array([before]),
        np.array([before + moved]),
        np.array([limits.ceiling - gain - to_ceiling]),
        np.array([limits.noise_limit - gain - to_noise]),
        limits,
    )
    return float(result.gain[0]), result.words


def test_what_is_taken_is_given_back_and_what_is_given_back_goes_again() -> None:
    assert settled(4.0, 0.2, -0.7) == (4.7, "1 phrase re-levelled, by up to 0.7 dB")
    assert settled(4.7, 0.2, 0.7) == (4.0, "1 phrase re-levelled, by up to 0.7 dB")
    assert settled(-6.0, 5.0, -2.5)[0] == -3.5
    assert settled(4.0, 0.2, -0.04) == (4.0, "")


def test_most_up_and_most_down_are_not_asked() -> None:
    assert settled(9.0, -1.2, -0.7, most_up=9.0)[0] == 9.7
    assert settled(-12.0, 1.2, 0.7, most_down=12.0)[0] == -12.7


def test_ceiling_and_noise_limit_hold_what_was_not_level_anyway() -> None:
    assert settled(4.0, -3.0, -0.7, to_ceiling=0.3)[0] == 4.3
    assert settled(4.0, -3.0, -0.7, to_noise=0.3)[0] == 4.3
    assert settled(4.0, -3.0, -0.7, to_noise=0.0) == (4.0, "")
    # it was over the limit before: no further, and not down either
    assert settled(4.0, -3.0, -0.7, to_noise=-2.0) == (4.0, "")


def test_the_room_comes_past_its_limit_only_as_far_as_a_level_phrase_needs() -> None:
    gain, words = settled(4.0, -1.2, -0.72, to_noise=0.0)
    assert gain == pytest.approx(4.0 + (1.92 - TOLERANCE) + LEAST)
    assert words == "1 phrase re-levelled, by up to 0.5 dB"
    assert settled(4.0, -1.2, -0.2, to_noise=0.0) == (4.0, ""), "it is level still"
    assert settled(4.0, -1.4, -9.0, to_noise=0.0)[0] == 4.0 + OVER
    assert settled(4.0, -1.2, -0.7, to_ceiling=0.0) == (4.0, ""), "the ceiling is never passed"
    assert settled(4.0, -1.2, -0.7, to_noise=0.0, to_ceiling=0.2)[0] == 4.2


def test_a_hair_does_not_cost_a_phrase_that_was_level() -> None:
    for side in (-1, 1):
        gain, words = settled(0.0, side * 1.499, side * 0.004)
        assert words == "1 phrase re-levelled, by up to 0.1 dB"
        assert abs(side * 1.503 + gain) <= TOLERANCE


def test_a_limit_is_not_paid_for_twice() -> None:
    """Details down and up again at a limit: the phrase is where it was."""
    down, _ = settled(4.0, -1.2, -0.7, to_noise=0.0)
    up, _ = settled(down, -1.2 + down - 4.0 - 0.7, 0.7, to_noise=4.0 - down)
    assert up == 4.0
    # the same where the ceiling held everything back
    assert settled(4.0, -3.7, 0.7, to_ceiling=0.0) == (4.0, "")
    # but never over the target
    assert settled(4.0, -0.1, 0.7, to_ceiling=0.0)[0] == 3.4


@pytest.mark.parametrize("seed", range(5))
def test_no_phrase_stops_being_level_but_at_the_ceiling(seed: int) -> None:
    """Any gain, any dip that takes no more than the room may come up by, any limits."""
    random = np.random.default_rng(seed)
    count = 2000
    rule = ClipGainRule(TARGET, TOLERANCE)
    gain, off, moved = random.uniform(-12, 12, count), random.uniform(-4, 4, count), random.uniform(-OVER, OVER, count)
    before = TARGET + off - gain
    ceiling, noise = random.uniform(-6, 6, count), random.uniform(-6, 6, count)
    result = settle(gain, before, before + moved, rule.ceiling - gain - ceiling, rule.noise_limit - gain - noise, rule)
    now = before + moved + result.gain - TARGET
    was, is_level = np.abs(off) <= TOLERANCE, np.abs(now) <= TOLERANCE
    raised = result.gain - gain
    # at the ceiling, or where the room had been let up past its limit before
    held = (moved < 0) & ((ceiling < -moved) | (noise < 0))
    assert is_level[was & ~held].all()
    # a limit never turns anything down: what lies below its own level may come back to it
    free = np.maximum(-gain, 0)
    assert np.all(raised <= np.maximum(ceiling, free) + 0.006)
    assert np.all(raised <= np.maximum(noise + OVER, free) + 0.006)
    assert np.all((raised <= np.maximum(noise, free) + 0.006) | was)
    assert np.all(np.abs(raised) <= np.abs(moved) + LEAST + 0.006)
