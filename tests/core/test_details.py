"""Breaths, esses, knocks and gaps: the figures reached on two labelled programmes, and what must hold of any recording."""

from __future__ import annotations

import json
from itertools import pairwise

import numpy as np
import pytest
from bench.marks import overlap, score_events, score_programme
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.kinds import NAMES
from nivelus.core.marks.details import find_details, find_marks, measure_mark
from nivelus.core.marks.mark import Mark
from nivelus.core.measure.grid import measure_file, measure_samples
from tests.conftest import BREATHS, CORPUS, ESSES, HARSH, KNOCK, RATE, detailed_voice, hiss, hum, room, thump


@pytest.mark.parametrize(("name", "breath_f1", "ess_f1"), [("dev_01", 1.0, 0.96), ("dev_04", 1.0, 0.86)])
def test_labelled_breaths_and_esses_are_found(name: str, breath_f1: float, ess_f1: float) -> None:
    """What was reached when this was written: dev_01 is a clean room, dev_04 two voices in a noisy one."""
    score = score_programme(CORPUS / f"{name}.flac")
    assert score.phrases.f1 == 1.0
    assert score.breaths.f1 >= breath_f1
    assert score.clear.recall == 1.0
    assert score.esses.f1 >= ess_f1
    assert np.median(score.breaths.edge_errors) <= 0.020
    assert np.median(score.esses.edge_errors) <= 0.010
    assert score.stray == 0


def test_gaps_and_clicks_lie_where_they_are_labelled() -> None:
    truth = json.loads((CORPUS / "dev_01.json").read_text())
    gaps = find_marks(measure_file(CORPUS / "dev_01.flac")[1]).of("gap")
    for click in truth["clicks"]:
        holding = [gap for gap in gaps if gap.start < click["end"] and gap.end > click["start"]]
        assert holding == [] or any("clicks" in gap.holds for gap in holding)
    for label in truth["clean_gaps"]:
        covered = sum(max(0.0, min(gap.end, label["end"]) - max(gap.start, label["start"])) for gap in gaps)
        assert covered >= 0.8 * (label["end"] - label["start"]) - 0.1


def found(rate: int = RATE, gain: float = 1.0) -> dict[str, list[Mark]]:
    marks = find_marks(measure_samples(detailed_voice(rate) * gain, rate))
    return {kind: marks.of(kind) for kind in NAMES}


@pytest.mark.parametrize("rate", [12_000, 16_000, 22_050, 44_100, 48_000, 96_000])
def test_every_detail_of_a_made_up_voice_is_found_at_every_rate(rate: int) -> None:
    marks = found(rate)
    spans = {kind: [(m.start, m.end) for m in marks[kind]] for kind in NAMES}
    breaths = score_events([[b] for b in BREATHS], spans["breath"], 0.5)
    assert (breaths.found, breaths.marks) == (3, 3)
    if rate >= 16_000:
        esses = score_events([[e] for e in ESSES], spans["ess"], 0.5)
        assert (esses.found, esses.marks) == (4, 4)
    assert any(overlap(KNOCK, span) > 0.4 for span in spans["knock"])


@pytest.mark.parametrize("thumped", [False, True])
def test_a_short_stressed_vowel_is_no_knock_and_a_thump_on_it_is(thumped: bool) -> None:
    """A vowel of 70 ms that rises within 20 and carries its word, as that of "saved" does: turned down, the word is gone."""
    voice = room(-62.0, 6.0)
    for start in (1.0, 3.0):
        for at, seconds, level in ((start, 0.25, -34.0), (start + 0.25, 0.07, -20.0), (start + 0.32, 0.3, -34.0)):
            sound = hum(level, seconds)
            voice[round(at * RATE) : round(at * RATE) + len(sound)] += sound
    if thumped:
        at = round(3.25 * RATE)
        voice[at : at + len(thump())] += thump()
    knocks = find_marks(measure_samples(voice, RATE)).of("knock")
    assert [3.2 < m.start < 3.3 for m in knocks] == [True] * thumped


def test_a_recording_that_cannot_show_esses_says_so() -> None:
    marks = find_marks(measure_samples(detailed_voice(8_000), 8_000))
    assert not marks.shows_esses
    assert marks.of("ess") == []
    assert len(marks.of("breath")) == 3


@given(gain=st.floats(-24, 12))
@settings(max_examples=8, deadline=None)
def test_how_loud_a_recording_is_changes_nothing_that_is_found(gain: float) -> None:
    plain, moved = found(), found(gain=10 ** (gain / 20))
    for kind in NAMES:
        assert [m.holds for m in plain[kind]] == [m.holds for m in moved[kind]]
        # an edge on the border of two frames may fall to either
        edges = [[(m.start, m.end) for m in side[kind]] for side in (plain, moved)]
        assert np.ravel(edges[0]) == pytest.approx(np.ravel(edges[1]), abs=0.0101)
        assert [m.level + gain for m in plain[kind]] == pytest.approx([m.level for m in moved[kind]], abs=0.01)


def test_the_harsh_ess_stands_out_and_the_others_do_not() -> None:
    esses = found()["ess"]
    assert max(range(4), key=lambda i: esses[i].excess or 0.0) == HARSH
    assert esses[HARSH].excess == pytest.approx(9.0, abs=1.5)
    assert all(abs(ess.excess or 0.0) < 1.5 for i, ess in enumerate(esses) if i != HARSH)


def test_breaths_phrases_and_gaps_do_not_overlap_and_leave_nothing_out() -> None:
    grid = measure_samples(detailed_voice(), RATE)
    marks = find_marks(grid)
    spans = [(p.start, p.end) for p in marks.phrases.phrases]
    spans += [(m.start, m.end) for kind in ("breath", "gap") for m in marks.of(kind)]
    spans.sort()
    assert all(right[0] >= left[1] - 1e-9 for left, right in pairwise(spans))
    # what is too short to be a gap is all that is left out
    assert sum(b - a for a, b in spans) > grid.duration - 0.1 * len(spans)


def test_a_hum_in_a_pause_is_no_breath() -> None:
    voice = detailed_voice()
    voice[: round(0.4 * RATE)] += hum(-48.0, 0.4)
    breaths = find_marks(measure_samples(voice, RATE)).of("breath")
    assert all(breath.start > 0.4 for breath in breaths)


def test_clicks_that_keep_time_are_bleed_and_others_are_clicks() -> None:
    seconds = 30.0
    voice = room(-66.0, seconds)
    for k in range(6):
        start = round((1.0 + 4.8 * k) * RATE)
        voice[start : start + RATE] += hum(-22.0, 1.0, seed=k)
    strange = voice.copy()
    tick = hiss(-36.0, 0.012, 500, 6000)
    for k in range(int(seconds / 0.61)):
        at = round((0.3 + 0.61 * k) * RATE)
        voice[at : at + len(tick)] += tick
    gaps = find_marks(measure_samples(voice, RATE)).of("gap")
    assert sum("bleed" in gap.holds for gap in gaps) >= len(gaps) - 1
    at = round(3.137 * RATE)
    strange[at : at + len(tick)] += tick
    gaps = find_marks(measure_samples(strange, RATE)).of("gap")
    assert [gap.holds for gap in gaps if gap.start < 3.137 < gap.end] == [("clicks",)]
    assert [gap.holds for gap in gaps if not gap.start < 3.137 < gap.end] == [()] * (len(gaps) - 1)


def test_what_a_person_marks_is_measured_like_what_was_found() -> None:
    grid = measure_samples(detailed_voice(), RATE)
    marks = find_marks(grid)
    esses = marks.of("ess")
    heights = np.array([ess.stands for ess in esses])
    phrase = next((p.start, p.end) for p in marks.phrases.phrases if p.start < ESSES[HARSH][0] < p.end)
    by_hand = measure_mark(grid, "ess", esses[HARSH].start, esses[HARSH].end, phrase, heights)
    assert by_hand.level == pytest.approx(esses[HARSH].level, abs=0.01)
    assert by_hand.excess == pytest.approx(esses[HARSH].excess, abs=0.5)
    assert by_hand.confidence == 1.0
    breath = marks.of("breath")[1]
    assert measure_mark(grid, "breath", breath.start, breath.end, None, heights).level == pytest.approx(breath.level, abs=0.01)


def test_details_are_found_between_phrases_that_were_corrected() -> None:
    grid = measure_samples(detailed_voice(), RATE)
    phrases = [(p.start, p.end) for p in find_marks(grid).phrases.phrases]
    # a person says that the first breath belongs to its phrase
    wider = [(BREATHS[0][0] - 0.05, phrases[0][1]), *phrases[1:]]
    kinds = [(mark.kind, round(mark.start, 1)) for mark in find_details(grid, wider)]
    assert ("breath", 0.5) not in kinds
    assert sum(kind == "breath" for kind, _ in kinds) == 2


@given(seed=st.integers(0, 1000), level=st.floats(-70, -30))
@settings(max_examples=10, deadline=None)
def test_a_room_with_nobody_in_it_has_one_gap_and_next_to_nothing_else(seed: int, level: float) -> None:
    marks = find_marks(measure_samples(room(level, 20.0, seed=seed), RATE))
    assert [m.kind for m in marks.details if m.kind in ("ess", "knock")] == []
    assert len(marks.of("breath")) <= 1
    assert sum(gap.end - gap.start for gap in marks.of("gap")) > 18.0
