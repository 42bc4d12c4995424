"""The drafted ride: figures on two labelled programmes, and what it must never do to any voice."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from bench.marks import overlap
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.deliver.level import level_file
from nivelus.core.drafts.ride import REASONS, draft_ride
from nivelus.core.drafts.wants import SLOPES, RideRule
from nivelus.core.errors import LevelError
from nivelus.core.gain.compile import compile_curves
from nivelus.core.gain.drawn import EMPTY, curve_of
from nivelus.core.measure.grid import FRAME, measure_file, measure_samples
from nivelus.core.measure.inside import inner_spread
from nivelus.core.rule import DEFAULT, with_values
from tests.conftest import CORPUS, RATE, hum, room, write_sound
from tests.helpers.ridden import FULL, Voice, falling, ridden, spans_of, voice_of
from tests.helpers.sounds import wavering


@pytest.fixture(scope="module")
def voice() -> Voice:
    return voice_of(measure_samples(wavering(), RATE))


@pytest.mark.parametrize("name", ["dev_01", "dev_04"])
def test_the_inside_of_labelled_phrases_is_evened_as_a_hand_would(name: str) -> None:
    """At least 40 % less spread of 400 ms loudness, 50 % at full strength; few points, none of them steep, levels kept."""
    found = voice_of(measure_file(CORPUS / f"{name}.flac")[1])
    draft = ridden(found)
    before, after, full = (
        np.mean([getattr(p, side) for p in some.phrases])
        for some, side in ((draft, "spread_before"), (draft, "spread_after"), (ridden(found, FULL), "spread_after"))
    )
    assert after <= 0.6 * before
    assert full <= 0.5 * before
    assert abs(np.mean([p.after - p.before for p in draft.phrases])) < 0.3
    assert {p.reason for p in draft.phrases} <= set(REASONS)
    at, db = draft.curve.at, draft.curve.db
    assert len(at) <= 2 * found[0].duration
    assert (at[4:] - at[:-4] >= 1.0 - 1e-6).all()
    assert (np.abs(np.diff(db)) <= SLOPES["usual"] * np.diff(at) + 1e-3).all()
    moments = np.arange(0, found[0].duration, FRAME)
    assert np.abs(draft.curve(moments + 0.3) - draft.curve(moments)).max() <= 6.01


def test_a_calm_ride_is_slower_and_a_quick_one_evens_more(voice: Voice) -> None:
    paces = [ridden(voice, replace(FULL, pace=pace)) for pace in ("calm", "usual", "quick")]
    steepest = [float(np.abs(np.diff(draft.curve.db) / np.diff(draft.curve.at)).max()) for draft in paces]
    assert steepest[0] <= 20.0
    assert steepest == sorted(steepest)
    # inside phrases, where a pause gives no time to be quicker
    inside = [
        max(np.abs(np.diff(draft.curve(np.arange(a + 0.1, b - 0.1, FRAME)))).max() / FRAME for a, b in spans_of(voice))
        for draft in paces
    ]
    assert inside[0] <= SLOPES["calm"] + 0.1
    spreads = [np.mean([p.spread_after for p in draft.phrases]) for draft in paces]
    assert spreads[0] >= spreads[2] - 0.05


def test_a_swaying_voice_stands_still_and_stays_where_it_was(voice: Voice) -> None:
    draft = ridden(voice)
    assert len(draft.phrases) == 3
    for phrase in draft.phrases:
        assert phrase.spread_before > 2.5
        assert phrase.spread_after < 0.4 * phrase.spread_before
        assert phrase.after == pytest.approx(phrase.before, abs=0.15)
        assert phrase.reason == "evened"


@given(strength=st.floats(0, 1), up=st.floats(0, 9), down=st.floats(0, 9))
@settings(max_examples=20, deadline=None)
def test_a_ride_keeps_to_its_limits_at_any_strength(strength: float, up: float, down: float) -> None:
    wide = voice_of(measure_samples(wavering(9.0), RATE))
    rule = RideRule(strength=strength, most_up=up, most_down=down, dead_band=0.0)
    curve = ridden(wide, rule).curve
    assert len(curve) == 0 or (curve.db.max() <= up + 1e-6 and curve.db.min() >= -down - 1e-6)
    # where a limit holds the full strength back, more strength only takes more from the phrase, which it may not
    full = ridden(wide, replace(rule, strength=1.0))
    if full.phrases[0].reason != "evened":
        return
    part = ridden(wide, rule)
    assert part.phrases[0].spread_after >= full.phrases[0].spread_after - 0.3


def test_the_room_is_never_lifted_past_the_noise_limit(voice: Voice) -> None:
    _, cells = voice
    limit = min(cell.room_tone for cell in cells) + 1.0
    draft = ridden(voice, RideRule(noise_limit=limit))
    assert draft.curve.db.max() <= 1.0 + 0.01
    assert {p.reason for p in draft.phrases} == {"noise limit"}
    assert ridden(voice, RideRule(noise_limit=-90.0)).curve.db.max() <= 0.0


def test_what_stays_within_the_dead_band_is_left_alone() -> None:
    steady = voice_of(measure_samples(wavering(0.3), RATE))
    draft = ridden(steady)
    assert len(draft.curve) == 0
    assert {p.reason for p in draft.phrases} == {"steady"}
    # nothing at all is not a ride either
    assert ridden((steady[0], [])).curve is EMPTY


def test_in_a_short_pause_the_ride_is_on_its_way_to_the_next_phrase() -> None:
    """Half a second: the line crosses it, straight, and is where it has to be when the phrase begins."""
    sound = np.concatenate([wavering()[: round(4.9 * RATE)], room(-70.0, 0.4, seed=8), wavering()[round(5.7 * RATE) :]])
    found = voice_of(measure_samples(sound, RATE))
    curve, spans = ridden(found).curve, spans_of(found)
    (_, end), (start, _) = spans[:2]
    assert 0.4 < start - end < 0.75
    way = curve(np.linspace(end, start, 30))
    assert way.min() >= min(way[0], way[-1]) - 0.35
    assert way.max() <= max(way[0], way[-1]) + 0.35


def test_a_pause_of_a_second_is_not_lifted(voice: Voice) -> None:
    curve, spans = ridden(voice).curve, spans_of(voice)
    for (_, end), (start, _) in pairwise(spans):
        assert 0.75 < start - end < 1.3
        assert curve(np.linspace(end + 0.31, start - 0.31, 20)).max() <= 0.03


def test_in_a_long_pause_the_room_is_not_lifted() -> None:
    sound = np.concatenate([wavering()[: round(9.9 * RATE)], room(-70.0, 5.0, seed=8), wavering()[round(5.7 * RATE) :]])
    found = voice_of(measure_samples(sound, RATE))
    curve, spans = ridden(found).curve, spans_of(found)
    pauses = [(a[1], b[0]) for a, b in pairwise(spans)]
    lasting = [pause for pause in pauses if pause[1] - pause[0] > 4.0]
    assert len(lasting) == 1
    for start, end in lasting:
        assert curve(np.linspace(start + 0.35, end - 0.35, 40)).max() <= 0.03


def test_a_target_moves_phrases_that_are_off_as_far_as_the_limits_let_it(voice: Voice) -> None:
    level = ridden(voice).phrases[0].before
    draft = ridden(voice, target=level + 2.0)
    assert [p.after for p in draft.phrases] == pytest.approx([level + 2.0] * 3, abs=0.8)


def test_only_what_is_chosen_is_drafted_and_the_rest_of_the_ride_is_identical(voice: Voice) -> None:
    spans = spans_of(voice)
    present = curve_of([(0.0, -2.0), (6.0, 1.0), (12.0, -4.0)])
    draft = ridden(voice, chosen=np.array([False, True, False]), present=present)
    assert [p.reason for p in draft.phrases] == ["not chosen", "evened", "not chosen"]
    at = np.arange(0, 16, 0.003)
    outside = at[(at < spans[0][1]) | (at > spans[2][0])]
    assert draft.curve(outside) == pytest.approx(present(outside), abs=1e-9)
    assert draft.phrases[1].spread_after < 0.4 * draft.phrases[1].spread_before
    assert ridden(voice, chosen=np.zeros(3, bool), present=present).curve is present


def test_no_ride_has_more_than_two_points_a_second() -> None:
    parts = [
        part for k in range(30) for part in (hum(-24 - 5 * (k % 2), 0.5, seed=k), hum(-30, 0.4, seed=k), np.zeros(RATE // 4))
    ]
    sound = np.concatenate(parts)
    found = voice_of(measure_samples(sound + room(-72, len(sound) / RATE + 1)[: len(sound)], RATE))
    assert len(ridden(found).curve) <= 2 * found[0].duration


def test_what_is_no_rule_is_refused() -> None:
    for values in (
        {"strength": 1.5},
        {"natural_fall": -0.1},
        {"most_up": -1.0},
        {"dead_band": np.nan},
        {"error": 0.0},
        {"pace": "slow"},
    ):
        with pytest.raises(LevelError):
            RideRule(**values)


RIDDEN = with_values(DEFAULT, {"phrases.strength": 0.0, "ride.on": True, "out.bits": 32})


def test_the_render_has_what_the_draft_says(tmp_path: Path) -> None:
    source = write_sound(tmp_path / "voice.wav", wavering(), subtype="FLOAT")
    done = level_file(source, tmp_path / "out.wav", RIDDEN)
    assert done.ride is not None
    again = measure_file(tmp_path / "out.wav")[1]
    power = np.asarray(again.column("k"), np.float64)
    before = spans_of(voice_of(measure_file(source)[1]))
    for phrase, (start, end) in zip(done.ride.phrases, before, strict=True):
        assert inner_spread(power[again.span(start, end)]) == pytest.approx(phrase.spread_after, abs=0.1)
    # what is found in the render are the same phrases
    after = spans_of(voice_of(again))
    assert len(after) == len(before)
    assert all(overlap(a, b) > 0.9 for a, b in zip(before, after, strict=True))
    assert np.abs(np.diff(compile_curves([done.ride.curve], RATE).db)).max() < 9.0


def test_a_phrase_comes_down_no_further_than_its_last_word_needs_and_its_room_allows() -> None:
    """Of the 4 LU that clip gain may give back: what is missing to the limit, or what the noise limit leaves."""
    found = voice_of(measure_samples(falling(-8.0), RATE))
    settles = np.full(2, np.inf)
    needed = ridden(found, FULL, rises=settles)
    for phrase in needed.phrases:
        assert 0.5 < phrase.before - phrase.after < 3.0
    room_tone = max(cell.room_tone for cell in found[1])
    tight = ridden(found, replace(FULL, noise_limit=room_tone + 6.5), rises=settles)
    assert all(phrase.before - phrase.after < 0.6 for phrase in tight.phrases)
    fixed = ridden(found, FULL, rises=np.zeros(2))
    assert all(abs(phrase.before - phrase.after) < 0.15 for phrase in fixed.phrases)


def test_a_held_note_is_evened_to_its_end() -> None:
    """It fades by 8 dB in two seconds: as long as it is nearly as loud, that is the note and not its decay."""
    out = room(-72.0, 5.0)
    t = np.arange(round(2.5 * RATE)) / RATE
    fade = np.clip((t - 0.5) / 2, 0, 1) * -8.0
    out[RATE : RATE + len(t)] += 0.2 * np.sin(2 * np.pi * 220 * t) * 10 ** (fade / 20)
    found = voice_of(measure_samples(out, RATE))
    curve = ridden(found).curve
    assert curve(2.9) - curve(1.2) > 2.5


def test_what_may_not_be_lifted_is_not_lifted_by_its_neighbour() -> None:
    """Phrases one after the other, the room of every other one too loud to come up: the line over all of them keeps to it."""
    sound: list[np.ndarray] = []
    spans, rooms = [], []
    for k in range(8):
        spans.append((len(np.concatenate(sound)) / RATE if sound else 0.0, 0.0))
        sound += [hum(-20.0, 0.7, seed=k), hum(-27.0, 0.6, seed=k + 9)]
        spans[-1] = (spans[-1][0], len(np.concatenate(sound)) / RATE)
        sound.append(room(-72.0, 0.3, seed=k))
        rooms.append(-39.0 if k % 2 else -72.0)
    grid = measure_samples(np.concatenate(sound), RATE)
    draft = draft_ride(grid, np.ones((len(grid.data), 2)), spans, np.array(rooms), RideRule())
    for (start, end), tone in zip(spans, rooms, strict=True):
        top = draft.curve(np.linspace(start + 0.01, end, 200)).max()
        assert top <= RideRule().error if tone > -40 else top > 1.0


def test_a_breath_between_phrases_is_not_lifted() -> None:
    """Behind a last word that comes up, before a first one that does, and where nothing follows: by no more than the error."""
    sound = falling()
    sound = np.concatenate([sound[: 8 * RATE][::-1][: round(3.3 * RATE)], sound[: round(8.8 * RATE)]])
    found = voice_of(measure_samples(sound, RATE))
    spans = spans_of(found)
    assert len(spans) == 3
    soon = 0.08
    breaths = np.array([(a[1] + soon, b[0] - 0.15) for a, b in pairwise(spans)] + [(spans[-1][1] + soon, spans[-1][1] + 0.8)])
    breaths = np.concatenate([[(0.0, spans[0][0] - 0.05)], breaths]) if spans[0][0] > 0.1 else breaths
    held, quiet = ridden(found), ridden(found, breaths=breaths)
    tops = [[draft.curve(np.linspace(a, b - 0.06, 30)).max() for a, b in breaths] for draft in (held, quiet)]
    assert max(tops[0]) > 2.0
    assert max(tops[1]) <= RideRule().error + 0.1
    # the words come up as they did
    for phrase, other in zip(quiet.phrases, held.phrases, strict=True):
        assert phrase.spread_after == pytest.approx(other.spread_after, abs=0.35)
