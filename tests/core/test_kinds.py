"""The table of kinds: what every kind has, wherever it is asked for."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from nivelus.core.drafts.dip_rules import DEFAULT_RULES, dip_rule
from nivelus.core.kinds import ALL_KINDS, FREE, KINDS, NAMES, Kind, KindName, listed
from nivelus.core.marks.details import find_marks
from nivelus.core.marks.mark import Mark, by_code
from nivelus.core.measure.grid import measure_samples
from nivelus.core.rule import DEFAULT, Number, about
from tests.conftest import RATE, Sound, detailed_voice

SOUNDS: dict[KindName, Callable[[], Sound]] = dict.fromkeys(("breath", "ess", "knock", "gap"), detailed_voice)
"""For each kind a sound in which there is one at least."""


def test_every_kind_has_a_rule_as_it_comes_and_sliders_within_its_limits() -> None:
    for kind in KINDS:
        own = getattr(DEFAULT.details, kind.name)
        assert (own.depth, own.shallowest, own.deepest) == (kind.depth, kind.shallowest, kind.deepest)
        assert not own.on
        assert DEFAULT_RULES[kind.name] == dip_rule(own)
        for setting, low in zip(("depth", "deepest"), kind.sliders, strict=True):
            number = about(f"details.{kind.name}.{setting}")
            assert isinstance(number, Number)
            assert number.low == low >= number.least
    assert DEFAULT_RULES.keys() == {kind.name for kind in ALL_KINDS}


@pytest.mark.parametrize("kind", NAMES)
def test_every_kind_is_found_in_a_sound_that_has_it(kind: KindName) -> None:
    assert find_marks(measure_samples(SOUNDS[kind](), RATE)).of(kind)


def test_what_leaves_gaps_lies_in_none_and_what_does_not_may() -> None:
    found = find_marks(measure_samples(detailed_voice(), RATE))
    for gap in found.of("gap"):
        for kind in KINDS:
            if kind.leaves_gaps:
                assert not [mark for mark in found.of(kind.name) if mark.start < gap.end and mark.end > gap.start]


@pytest.mark.parametrize("kind", KINDS, ids=NAMES)
def test_a_mark_is_in_doubt_below_the_confidence_of_its_kind(kind: Kind) -> None:
    below, at = (Mark(kind.name, 0.0, 1.0, -40.0, confidence) for confidence in (kind.doubtful - 0.01, kind.doubtful))
    assert (below.is_doubtful, at.is_doubtful) == (True, False)


def test_what_is_said_by_code_is_said_of_that_kind() -> None:
    codes = np.array([kind.code for kind in ALL_KINDS])
    assert by_code(lambda kind: kind.ramps)[codes].tolist() == [list(kind.ramps) for kind in ALL_KINDS]
    assert by_code(lambda kind: kind is FREE)[codes].tolist() == [kind is FREE for kind in ALL_KINDS]


def test_kinds_in_a_sentence() -> None:
    assert listed().startswith("breaths, esses, ")
    assert listed().endswith("knocks and gaps")
    assert listed("or", plural=False).endswith("knock or gap")
