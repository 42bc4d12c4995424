"""Several microphones of one voice: what follows a track has its gain, and what is done to it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy.signal import csd

from nivelus.core.errors import NivelusError, Refused
from nivelus.core.gain.compiled import apply_gain
from nivelus.jobs.queue import run_job
from nivelus.services.clips import arranging, clips, details, drafts, following, moves, phrases
from nivelus.services.files import renders
from nivelus.services.files.imports import stage_file
from nivelus.services.lanes import drawing, rides, whole
from nivelus.services.mix import balance, load
from nivelus.services.sessions import jobs, sessions, tracks
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from tests.conftest import RATE, bring_in, detailed_voice, uneven_voice, write_sound
from tests.helpers.edits import content
from tests.helpers.microphones import bring, gains, render, second_microphone, work_on
from tests.helpers.near import near
from tests.helpers.timelines import session_of, state_of, voiced


def test_a_render_is_the_source_times_the_gain_of_the_leader_to_the_last_bit(
    bench: Workbench, pair: tuple[str, str], tmp_path: Path
) -> None:
    lead, other = pair
    work_on(bench, lead)
    _, _, leader, _ = sound.render_source(bench, lead)
    _, _, state, _ = sound.render_source(bench, other)
    assert state.gain is leader.gain
    assert np.ptp(leader.gain.db) > 10
    source = soundfile.read(tmp_path / "lapel.wav", dtype="float32")[0]
    out, lead_out, lead_in = render(bench, other, tmp_path), render(bench, lead, tmp_path), detailed_voice().astype(np.float32)
    # what the leader was multiplied by, where there is enough of it to tell, is what its follower was multiplied by
    loud = (np.abs(lead_in) > 1e-3) & (np.abs(source) > 1e-3)
    assert loud.sum() > 100_000
    assert out[loud] / source[loud] == near(lead_out[loud] / lead_in[loud], rel=3e-7)
    assert np.array_equal(out, apply_gain(source[:, None], leader.gain, 0)[:, 0])


def test_the_phase_between_two_microphones_stays(bench: Workbench, pair: tuple[str, str], tmp_path: Path) -> None:
    """By the cross-spectrum over all frames; J. S. Bendat, A. G. Piersol, Random Data, 4th ed. 2010, 9.1 (from memory)."""
    lead, _ = pair
    work_on(bench, lead)
    outs = [render(bench, id, tmp_path) for id in pair]
    sources = [soundfile.read(tmp_path / name, dtype="float32")[0] for name in ("boom.wav", "lapel.wav")]
    inside = slice(round(1.2 * RATE), round(1.6 * RATE))
    # where the gain is level the spectra are alike but for a factor
    (flat,) = gains(bench, lead)
    assert np.ptp(flat[inside]) < 1e-9
    before, after = (csd(a[inside], b[inside], RATE, nperseg=4096)[1] for a, b in (sources, outs))
    strong = np.abs(before) > 1e-4 * np.abs(before).max()
    assert strong.sum() > 20
    assert np.rad2deg(np.angle(after[strong] / before[strong])) == near(np.zeros(int(strong.sum())), abs=0.001)


def test_trim_and_fader_are_its_own(bench: Workbench, pair: tuple[str, str]) -> None:
    lead, other = pair
    state = work_on(bench, lead)
    state = whole.set_trim(bench, other, state.revision, 1.5)
    own, theirs = gains(bench, other, lead)
    assert own - theirs == near(np.full(len(own), 1.5), abs=1e-9)
    state = drawing.lift_span(bench, other, state.revision, "trim", 2.0, 3.0, -3.0)
    state = tracks.set_fader(bench, other, state.revision, -4.0)
    own, theirs = gains(bench, other, lead)
    assert (own - theirs)[round(2.5 * RATE)] == pytest.approx(-1.5)
    faders = [track.fader for track in state.tracks]
    assert faders == [0.0, -4.0]
    # the layers that are heard add up to it, one by one
    key = next(track.gain_key for track in state.tracks if track.id == other)
    for layers in (("clip", "curve", "dips", "ride", "trim"), ("trim",), ("ride", "trim"), ("clip", "dips")):
        total = sound.heard(bench, other, key, layers).total
        lead_layers = set(layers) - {"trim"} | ({"trim"} if "ride" in layers else set())
        led = sound.gain_points(bench, lead, lead_layers)
        trim = sound.gain_points(bench, other, ["trim"]) if "trim" in layers else np.zeros((1, 2))
        at = np.arange(0, len(own), 480.0)
        added = np.interp(at, *led.T) + np.interp(at, *trim.T)
        assert np.interp(at, *total.T) == near(added, abs=1e-9), layers


def test_following_is_a_step_that_can_be_undone(bench: Workbench, tmp_path: Path) -> None:
    session, voice = sessions.create(bench, "Two microphones"), detailed_voice()
    lead = bring(bench, session, tmp_path / "boom.wav", voice)
    other = bring(bench, session, tmp_path / "lapel.wav", second_microphone(voice))
    state = work_on(bench, other)
    before = state_of(bench, session)
    assert [mark for mark in before.marks if mark.track == other]
    answer = following.follow(bench, other, state.revision, lead)
    assert answer.label == "lapel follows boom"
    assert sorted(answer.removed[other]) == sorted(clip.id for clip in before.clips if clip.track == other)
    now = state_of(bench, session)
    assert [track.follows for track in now.tracks] == [None, lead]
    assert other not in {clip.track for clip in now.clips} | {mark.track for mark in now.marks}
    figures = sound.before_after(bench, other)
    assert figures.after.count == 0
    # the trim that it had is its own still
    assert next(track.trim.offset for track in now.tracks if track.id == other) == pytest.approx(-0.7)
    sessions.undo(bench, session, now.revision)
    assert _without_keys(state_of(bench, session)) == _without_keys(before)


def _without_keys(state: Changed) -> object:
    return content(state) | {"tracks": [track.model_dump(exclude={"gain_key"}) for track in state.tracks]}


def test_who_stands_on_its_own_again_keeps_its_gain(bench: Workbench, pair: tuple[str, str]) -> None:
    lead, other = pair
    state = work_on(bench, lead)
    state = whole.set_trim(bench, other, state.revision, 1.0)
    before, led = gains(bench, other, lead)
    state = following.stand_alone(bench, other, state.revision)
    after, still = gains(bench, other, lead)
    assert np.array_equal(led, still)
    assert np.abs(after - before).max() < 0.05
    own = voiced(state_of(bench, session_of(bench, lead)), other)
    assert len(own) == 3
    assert np.ptp([clip.gain for clip in own]) > 0.5
    assert next(track.trim.offset for track in state.tracks if track.id == other) == pytest.approx(1.0)
    # from now on it can be worked on as any other
    state = clips.set_gain(bench, other, state.revision, [own[0].id], by=2.0)
    assert gains(bench, other)[0][round(1.5 * RATE)] == pytest.approx(after[round(1.5 * RATE)] + 2.0, abs=0.05)
    assert next(track.follows for track in state.tracks if track.id == other) is None


def test_removing_who_is_followed_asks_what_becomes_of_the_others(
    bench: Workbench, pair: tuple[str, str], tmp_path: Path
) -> None:
    lead, other = pair
    session = session_of(bench, lead)
    third = bring(bench, session, tmp_path / "room.wav", 0.3 * second_microphone(detailed_voice()))
    state = following.follow(bench, third, state_of(bench, session).revision, lead)
    work_on(bench, lead)
    before = gains(bench, other, third)
    state = following.remove(bench, lead, state_of(bench, session).revision)
    assert [track.follows for track in state.tracks] == [None, None]
    for old, new in zip(before, gains(bench, other, third), strict=True):
        assert np.abs(old - new).max() < 0.05
    state = sessions.undo(bench, session, state.revision)
    assert [track.follows for track in state.tracks] == [None, lead, lead]
    state = following.remove(bench, lead, state.revision, instead=other)
    assert [track.follows for track in state.tracks] == [None, other]
    one, two = gains(bench, other, third)
    assert np.array_equal(one, two)
    assert np.abs(one - before[0]).max() < 0.05
    # and what is done to the new one is done to the other
    own = voiced(state_of(bench, session), other)
    clips.set_gain(bench, other, state.revision, [own[1].id], by=-3.0)
    one, two = gains(bench, other, third)
    assert np.array_equal(one, two)


def test_what_its_leader_has_is_refused_with_a_sentence(bench: Workbench, pair: tuple[str, str], tmp_path: Path) -> None:
    lead, other = pair
    session = session_of(bench, lead)
    third = bring_in(bench, session, write_sound(tmp_path / "other.wav", uneven_voice()))
    state = state_of(bench, session)
    now = content(state)
    clip = next(clip.id for clip in state.clips if clip.track == third)
    revision = state.revision
    tries: list[Callable[[], object]] = [
        lambda: phrases.find_again(bench, other, revision),
        lambda: details.set_rule(bench, other, revision, "breath", {"on": True}),
        lambda: details.make(bench, other, revision, "dip", 1.0, 1.5),
        lambda: drawing.lift_span(bench, other, revision, "ride", 1.0, 2.0, 3.0),
        lambda: drafts.accept(bench, other, revision),
        lambda: rides.accept(bench, other, revision),
        lambda: tracks.set_kind(bench, other, revision, "bed"),
        lambda: moves.move(bench, third, revision, [clip], 0.0, to_track=other, to_take=-1),
        lambda: moves.move(bench, third, revision, [clip], 0.0, to_track=other),
        lambda: following.follow(bench, lead, revision, third),
        lambda: following.follow(bench, third, revision, other),
        lambda: following.follow(bench, third, revision, third),
        lambda: following.follow(bench, third, revision, "nobody"),
        lambda: following.begin_together(bench, lead, revision),
        lambda: following.stand_alone(bench, lead, revision),
        lambda: following.remove(bench, lead, revision, instead=lead),
        lambda: arranging.arrange(bench, session, revision, [third, lead], "takes"),
        lambda: arranging.arrange(bench, session, revision, [third, other], "after"),
    ]
    for number, attempt in enumerate(tries):
        with pytest.raises(NivelusError) as told:
            attempt()
        assert told.value.sentence.endswith("."), number
    assert content(state_of(bench, session)) == now


def test_figures_mix_and_compressor_take_it_as_any_track(bench: Workbench, pair: tuple[str, str], tmp_path: Path) -> None:
    lead, other = pair
    work_on(bench, lead)
    figures = sound.before_after(bench, other)
    assert figures.before.integrated is not None
    assert figures.after.integrated is not None
    session = session_of(bench, lead)
    bed = bring_in(bench, session, write_sound(tmp_path / "bed.wav", np.random.default_rng(4).normal(0, 0.01, 7 * RATE)))
    tracks.set_kind(bench, bed, state_of(bench, session).revision, "bed")
    assert balance.distance(bench, session).phrases
    # how hard the compressor works is told of the time in which its leader speaks
    work = load.view(bench, other)
    assert work.phrases == []
    assert work.after.average > 0.5
    assert work.at_proposed.average == pytest.approx(work.before.average, abs=0.2)
    job = renders.request_mix(bench, session, "wav", 32, limited=False, compressed=False)
    renders.run_render(bench, job.id)
    mixed = soundfile.read(renders.rendered_file(bench, job.id)[0], dtype="float64")[0]
    tracks.set_heard(bench, bed, state_of(bench, session).revision, "mute", True)
    tracks.set_heard(bench, lead, state_of(bench, session).revision, "mute", True)
    job = renders.request_mix(bench, session, "wav", 32, limited=False, compressed=False)
    renders.run_render(bench, job.id)
    alone = soundfile.read(renders.rendered_file(bench, job.id)[0], dtype="float64")[0]
    alone = alone if alone.ndim == 1 else alone[:, 0]
    assert alone == near(render(bench, other, tmp_path).astype(np.float64), abs=1e-6)
    assert mixed.shape[0] == alone.shape[0]
    assert jobs.view_job(jobs.get(bench, job.id)).state == "done"


def test_the_distance_to_a_bed_is_that_of_all_microphones(bench: Workbench, tmp_path: Path) -> None:
    """Two that hear the same are 3 dB stronger together: powers add."""
    session, voice = sessions.create(bench, "Two microphones"), detailed_voice()
    lead = bring(bench, session, tmp_path / "boom.wav", voice)
    bed = bring(bench, session, tmp_path / "bed.wav", np.random.default_rng(4).normal(0, 0.01, 7 * RATE))
    tracks.set_kind(bench, bed, state_of(bench, session).revision, "bed")

    def distances(track: str | None = None) -> np.ndarray:
        return np.array([phrase.distance for phrase in balance.distance(bench, session, track).phrases])

    alone, course = distances(), balance.distance_course(bench, session)
    other = tracks.duplicate(bench, lead, state_of(bench, session).revision).tracks[1].id
    assert len(distances()) == 6
    following.follow(bench, other, state_of(bench, session).revision, lead)
    assert len(alone) == 3
    for track in (None, lead, other):
        assert distances(track) == near(alone + 10 * np.log10(2), abs=0.01)
    loud = course[:, 0] > -40
    assert balance.distance_course(bench, session)[loud, 0] == near(course[loud, 0] + 10 * np.log10(2), abs=0.01)
    tracks.set_heard(bench, other, state_of(bench, session).revision, "mute", True)
    assert distances() == near(alone, abs=0.01)


def test_a_copy_of_it_follows_too(bench: Workbench, pair: tuple[str, str]) -> None:
    lead, other = pair
    state = tracks.duplicate(bench, other, state_of(bench, session_of(bench, lead)).revision)
    assert [track.follows for track in state.tracks] == [None, lead, lead]
    (copy,) = (track.id for track in state.tracks if track.id not in (lead, other))
    state = following.stand_alone(bench, copy, state.revision)
    with pytest.raises(Refused, match="“boom” is followed by “lapel”"):
        following.follow(bench, lead, state.revision, copy)


@pytest.mark.parametrize("order", [(0, 1, 2), (2, 0, 1), (1, 2, 0)])
def test_the_channels_of_a_file_follow_the_first_whichever_is_read_first(
    bench: Workbench, tmp_path: Path, order: tuple[int, ...]
) -> None:
    session, made = taken_apart(bench, tmp_path)
    for place in order:
        assert run_job(bench, made[place]) == []
    items = jobs.list_jobs(bench, session)
    assert [one.state for one in items] == ["done"] * 4
    assert (
        items[0].message
        == "“A001.wav” has 4 channels: 1 of 4 has the phrases, and the others follow it. 3 of 4 is silent and left out."
    )
    state = state_of(bench, session)
    first = state.tracks[0].id
    assert [track.name for track in state.tracks] == ["1 of 4", "2 of 4", "4 of 4"]
    assert [track.follows for track in state.tracks] == [None, first, first]
    assert {clip.track for clip in state.clips} == {first}
    work_on(bench, first)
    assert len({gain.tobytes() for gain in gains(bench, *(track.id for track in state.tracks))}) == 1
    while state_of(bench, session).undo:
        sessions.undo(bench, session, state_of(bench, session).revision)
    assert state_of(bench, session).tracks == []


def test_where_the_first_channel_does_not_come_in_the_others_stand_on_their_own(bench: Workbench, tmp_path: Path) -> None:
    session, made = taken_apart(bench, tmp_path)
    jobs.cancel(bench, made[0])
    for job in made[1:]:
        run_job(bench, job)
    state = state_of(bench, session)
    assert [track.follows for track in state.tracks] == [None, None]
    assert all(len(voiced(state, track.id)) == 3 for track in state.tracks)


def taken_apart(bench: Workbench, tmp_path: Path) -> tuple[str, list[str]]:
    """A session, and the imports of the channels of three microphones and a silent one."""
    voice = detailed_voice()
    channels = np.column_stack([voice, second_microphone(voice), 0 * voice, 0.5 * second_microphone(voice)])
    session = sessions.create(bench, "Set")
    job = stage_file(bench, session, write_sound(tmp_path / "A001.wav", channels)).id
    assert run_job(bench, job) == []
    asked = jobs.view_job(jobs.get(bench, job))
    assert (asked.state, asked.options[asked.usual]) == ("asks", "Microphones of one voice")
    jobs.choose(bench, job, asked.usual)
    made = run_job(bench, job)
    assert len(made) == 3
    return session, made
