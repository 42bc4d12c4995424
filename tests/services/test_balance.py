"""Voices against beds and into the compressor: what is said of them is what is measured of the rendered sound."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pyloudnorm
import pytest
import soundfile

from nivelus.core.errors import LevelError, Refused
from nivelus.services.clips import drafts
from nivelus.services.files import renders
from nivelus.services.files.imports import run_import, stage_file
from nivelus.services.lanes import drawing
from nivelus.services.mix import balance, load
from nivelus.services.sessions import cards, jobs, sessions, tracks
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.store.tables import Track
from tests.conftest import RATE, bring_in, uneven_voice, write_sound

LEVELS = (-30.0, -16.0, -24.0, -38.0) * 4


def noise(seconds: float, level: float, channels: int = 2, rate: int = RATE) -> np.ndarray:
    random = np.random.default_rng(8)
    return random.standard_normal((round(seconds * rate), channels)) * 10 ** (level / 20)


@pytest.fixture
def session(bench: Workbench) -> str:
    return sessions.create(bench, "Balance")


@pytest.fixture
def voice(bench: Workbench, session: str, tmp_path: Path) -> str:
    return bring_in(bench, session, write_sound(tmp_path / "voice.wav", uneven_voice(LEVELS)))


@pytest.fixture
def bed(bench: Workbench, session: str, voice: str, tmp_path: Path) -> str:
    """A stereo bed that outlasts the voice."""
    return bring_in(bench, session, write_sound(tmp_path / "sea.wav", noise(40, -32.0)))


def revision(bench: Workbench, session: str) -> int:
    return sessions.state(bench, session).revision


def rendered(bench: Workbench, job: str, name: str = "wav") -> np.ndarray:
    renders.run_render(bench, job)
    path, _ = renders.rendered_file(bench, job)
    return soundfile.read(io.BytesIO(path.read_bytes()), always_2d=True)[0]


def test_what_never_pauses_comes_in_as_a_bed_and_says_so(bench: Workbench, session: str, voice: str, tmp_path: Path) -> None:
    path = write_sound(tmp_path / "rain.wav", noise(25, -30.0))
    job = stage_file(bench, session, path)
    run_import(bench, job.id)
    assert "does not pause as a voice does" in jobs.get(bench, job.id).message
    state = sessions.state(bench, session)
    assert [track.kind for track in state.tracks] == ["voice", "bed"]
    assert not [clip for clip in state.clips if clip.track == state.tracks[1].id and clip.phrase_start is not None]
    # it counts for nothing that is judged by phrases
    assert cards.list_cards(bench)[0].count == len(LEVELS)


def test_a_bed_that_is_a_voice_has_its_phrases_found_and_undo_makes_it_a_bed_again(
    bench: Workbench, session: str, voice: str
) -> None:
    now = revision(bench, session)
    state = tracks.set_kind(bench, voice, now, "bed")
    assert state.tracks[0].kind == "bed"
    state = tracks.set_kind(bench, voice, state.revision, "voice")
    # it had phrases all along
    assert state.told == ""
    assert sessions.undo(bench, session, state.revision).tracks[0].kind == "bed"


def test_mute_and_solo_are_steps_that_change_no_gain(bench: Workbench, session: str, voice: str, bed: str) -> None:
    before = sessions.state(bench, session)
    state = tracks.set_heard(bench, bed, before.revision, "mute", True)
    assert [track.mute for track in state.tracks] == [False, True]
    assert state.label == "Mute sea"
    assert [track.gain_key for track in state.tracks] == [track.gain_key for track in before.tracks]
    state = tracks.set_heard(bench, voice, state.revision, "solo", True)
    assert sessions.undo(bench, session, state.revision).tracks[0].solo is False


def test_only_the_gain_of_what_was_edited_has_another_key(bench: Workbench, session: str, voice: str, bed: str) -> None:
    before = sessions.state(bench, session)
    keys = [track.gain_key for track in before.tracks]
    state = drawing.lift_span(bench, voice, before.revision, "ride", 1.0, 2.0, 3.0)
    assert state.tracks[0].gain_key != keys[0]
    assert state.tracks[1].gain_key == keys[1]
    state = drawing.lift_span(bench, bed, state.revision, "trim", 1.0, 2.0, 3.0)
    assert state.tracks[1].gain_key != keys[1]
    assert [track.gain_key for track in sessions.state(bench, session).tracks] == [t.gain_key for t in state.tracks]


def test_the_distance_is_that_of_rendered_voice_and_bed(bench: Workbench, session: str, voice: str, bed: str) -> None:
    """Against pyloudnorm, on what is rendered: a mono voice beside a stereo bed is heard from both sides."""
    state = tracks.set_fader(bench, bed, revision(bench, session), -4.0)
    state = drafts.accept(bench, voice, state.revision)
    told = balance.distance(bench, session)
    alone = {}
    for name, track in (("voice", voice), ("bed", bed)):
        state = tracks.set_heard(bench, track, revision(bench, session), "solo", True)
        job = renders.request_mix(bench, session, "wav", 32, False, False)
        alone[name] = rendered(bench, job.id)
        sessions.undo(bench, session, state.revision)
    assert alone["bed"].shape[1] == 2
    clips = {clip.id: clip for clip in sessions.state(bench, session).clips}
    meter = pyloudnorm.Meter(RATE, block_size=0.4)
    for phrase in told.phrases:
        clip = clips[phrase.clip]
        span = slice(round(clip.phrase_start * RATE), round(clip.phrase_end * RATE))
        both = np.repeat(alone["voice"][span], 2 // alone["voice"].shape[1], axis=1)
        expected = meter.integrated_loudness(both) - meter.integrated_loudness(alone["bed"][span])
        assert phrase.distance == pytest.approx(expected, abs=0.5)
    assert told.mean == pytest.approx(np.mean([phrase.distance for phrase in told.phrases]))
    course = balance.distance_course(bench, session)
    assert course.shape == (400, 2)
    assert course[200, 1] == pytest.approx(meter.integrated_loudness(alone["bed"]), abs=0.3)


def test_a_duck_keeps_what_it_promised_and_goes_into_the_trim(bench: Workbench, session: str, voice: str, bed: str) -> None:
    state = drafts.accept(bench, voice, revision(bench, session))
    draft = balance.draft(bench, bed, {"way": "distance", "distance": 14.0})
    assert (draft.kept, draft.count) == (len(LEVELS), len(LEVELS))
    assert draft.told == ""
    state = balance.accept(bench, bed, state.revision, {"way": "distance", "distance": 14.0})
    assert state.label == "Make room for the voice"
    assert state.tracks[1].lanes == ["trim"]
    assert state.tracks[1].duck.distance == 14.0
    after = balance.distance(bench, session)
    assert after.kept == len(LEVELS)
    promised = {phrase.clip: phrase.after for phrase in draft.phrases}
    for phrase in after.phrases:
        assert phrase.distance == pytest.approx(promised[phrase.clip], abs=0.05)
    # what is drawn otherwise on the bed stays, and drafting again makes the same
    state = drawing.lift_span(bench, bed, state.revision, "ride", 30.0, 35.0, -3.0)
    again = balance.draft(bench, bed)
    assert [(p.at, p.db) for p in again.points] == [(p.at, p.db) for p in draft.points]
    for _ in range(3):
        state = sessions.undo(bench, session, state.revision)
    assert state.tracks[1].lanes == []
    assert state.tracks[1].duck.distance == 12.0


def test_a_locked_span_survives_the_next_draft(bench: Workbench, session: str, voice: str, bed: str) -> None:
    state = balance.accept(bench, bed, revision(bench, session), {"way": "depth", "depth": -6.0})
    state = drawing.lift_span(bench, bed, state.revision, "trim", 5.0, 6.0, -8.0)
    state = balance.lock(bench, bed, state.revision, 4.8, 6.2, True)
    assert [(span.start, span.end) for span in state.tracks[1].duck.locked] == [(4.8, 6.2)]
    before = sound.gain_points(bench, bed)
    state = balance.accept(bench, bed, state.revision, {"depth": -12.0})
    after = sound.gain_points(bench, bed)
    inside = np.arange(4.82, 6.18, 0.01) * RATE
    was, now = (np.interp(inside, points[:, 0], points[:, 1]) for points in (before, after))
    np.testing.assert_allclose(now, was, atol=1e-6)
    assert after[:, 1].min() == pytest.approx(-14.0, abs=0.1)
    state = balance.lock(bench, bed, state.revision, 5.0, 5.5, False)
    assert state.tracks[1].duck.locked == []


def test_what_cannot_be_is_said_at_the_draft(bench: Workbench, session: str, voice: str, tmp_path: Path) -> None:
    with pytest.raises(Refused, match="Only a bed makes room"):
        balance.draft(bench, voice)
    short = bring_in(bench, session, write_sound(tmp_path / "short.wav", noise(21, -32.0)))
    told = balance.draft(bench, short, {"way": "distance", "distance": 30.0, "most_down": 6.0}).told
    assert "phrases stay nearer than 30 LU, because the bed may go down by 6 dB at most" in told
    assert "the bed ends at 0:21, before" in told
    state = tracks.set_heard(bench, voice, revision(bench, session), "mute", True)
    with pytest.raises(LevelError, match="no phrase to make room for"):
        balance.draft(bench, short)
    assert state.revision == revision(bench, session)


def test_a_slow_ride_evens_a_bed_out_and_is_the_ride(bench: Workbench, session: str, tmp_path: Path) -> None:
    parts = np.concatenate([noise(12, -40.0), noise(12, -22.0), noise(12, -40.0)])
    bed = bring_in(bench, session, write_sound(tmp_path / "room.wav", parts))
    rule = {"most_up": 12.0, "most_down": 24.0, "fastest": 12.0}
    draft = balance.draft_slowly(bench, bed, rule)
    state = balance.accept_slowly(bench, bed, revision(bench, session), rule)
    assert state.tracks[0].lanes == ["ride"]
    figures = sound.before_after(bench, bed)
    assert figures.before.loudness_range == pytest.approx(draft.before)
    assert figures.after.loudness_range == pytest.approx(draft.after, abs=0.2)
    assert draft.before > 15
    assert draft.after < 3


def test_the_load_is_steadier_after_levelling_at_an_equal_average(bench: Workbench, session: str, voice: str) -> None:
    before = load.view(bench, voice)
    assert before.before == before.after
    drafts.accept(bench, voice, revision(bench, session))
    after = load.view(bench, voice)
    assert after.before == before.before
    assert after.at_proposed.average == pytest.approx(after.before.average, abs=0.1)
    # the benefit of the job in one number
    assert after.at_proposed.spread < after.before.spread / 4
    assert after.order is not None
    assert after.order.ahead_spread < after.order.behind_spread
    assert len(after.phrases) == len(LEVELS)
    state = load.change(bench, voice, revision(bench, session), {"threshold_after": after.proposed})
    assert state.tracks[0].load.threshold_after == after.proposed
    assert load.view(bench, voice).after.average == pytest.approx(after.before.average, abs=0.1)
    course = load.course(bench, voice)
    assert course.shape[1] == 2
    assert course.max(axis=0) == pytest.approx([after.before.highest, load.view(bench, voice).after.highest], abs=0.2)


def test_a_mix_past_full_scale_is_told_and_the_limiter_holds_it(bench: Workbench, session: str, voice: str, bed: str) -> None:
    tracks.set_fader(bench, bed, revision(bench, session), 12.0)
    drawing.lift_span(bench, bed, revision(bench, session), "ride", 1.0, 30.0, 18.0)
    job = renders.request_mix(bench, session, "wav", 24, False, False)
    loud = rendered(bench, job.id)
    assert "passes full scale by" in jobs.get(bench, job.id).message
    assert np.abs(loud).max() > 0.999
    job = renders.request_mix(bench, session, "wav", 24, True, False)
    held = rendered(bench, job.id)
    assert np.abs(held).max() <= 10 ** (-1 / 20) + 1e-6
    assert len(held) == len(loud)
    # where nothing is limited it begins when the tracks do
    np.testing.assert_allclose(held[: RATE // 2], loud[: RATE // 2], atol=2e-7)


def test_nothing_to_mix_is_said(bench: Workbench, session: str, voice: str) -> None:
    tracks.set_heard(bench, voice, revision(bench, session), "mute", True)
    with pytest.raises(Refused, match="Every track is muted"):
        renders.request_mix(bench, session, "wav", 24, False, False)


def test_a_mix_of_nothing_is_refused_where_it_is_asked_for_and_where_it_is_made(
    bench: Workbench, session: str, voice: str
) -> None:
    empty = sessions.create(bench, "Empty")
    with pytest.raises(Refused, match="has no tracks yet"):
        renders.request_mix(bench, empty, "wav", 24, False, False)
    job = renders.request_mix(bench, session, "wav", 24, False, False)
    for folder in (bench.vault.root).glob("??/*"):
        folder.rename(folder.with_name(f"away-{folder.name}"))
    with pytest.raises(Refused, match="files of all audible tracks are missing"):
        renders.request_mix(bench, session, "wav", 24, False, False)
    renders.run_render(bench, job.id)
    done = jobs.view_job(jobs.get(bench, job.id))
    assert (done.state, done.message.split(":")[0]) == ("failed", "There is nothing to mix")
    assert not list(bench.vault.renders.iterdir())


def test_what_was_set_before_balance_was_there_comes_as_it_comes(bench: Workbench, session: str, voice: str) -> None:
    with bench.database.reading() as db:
        row = db.get(Track, voice)
        assert row is not None
        assert (row.kind, row.mute, row.solo, row.load, row.duck) == ("voice", False, False, {}, {})
    view = sessions.state(bench, session).tracks[0]
    assert view.load.threshold_after is None
    assert view.duck.locked == []
