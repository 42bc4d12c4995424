"""Clips along the axis: whatever is moved, copied, trimmed or chosen sounds and measures as it did, and is undone exactly."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
import soundfile

from nivelus.core.errors import NivelusError
from nivelus.core.measure.grid import measure_samples
from nivelus.core.measure.spans import span_levels
from nivelus.core.sound.timeline import open_sound
from nivelus.services import arranging, clips, details, drawing, moves, phrases, sessions, sound, takes
from nivelus.services.views import Changed, ClipView
from nivelus.services.workbench import Workbench
from nivelus.settings import Settings
from nivelus.store.tables import Recording, Track
from tests.conftest import RATE, bring_in, detailed_voice, uneven_voice, write_sound
from tests.helpers.answers import kept_is_stored, known_of, put_in, same
from tests.helpers.edits import content, edits

Step = Callable[[Changed], Changed]


@pytest.fixture
def session(bench: Workbench) -> str:
    return sessions.create(bench, "Timelines")


@pytest.fixture
def detail(bench: Workbench, session: str, tmp_path: Path) -> str:
    """A track with details, esses down, and a lift on its second phrase."""
    track = bring_in(bench, session, write_sound(tmp_path / "details.wav", detailed_voice()))
    state = sessions.state(bench, session)
    state = details.set_rule(bench, track, state.revision, "ess", {"on": True, "depth": -6.0})
    ess = next(mark.id for mark in sessions.state(bench, session).marks if mark.kind == "ess")
    state = details.set_depth(bench, track, state.revision, [ess], to=-9.0)
    drawing.lift_span(bench, track, state.revision, "curve", 2.9, 3.4, 3.0)
    return track


@pytest.fixture
def other(bench: Workbench, session: str, detail: str, tmp_path: Path) -> str:
    """A track of another rate beside it."""
    return bring_in(bench, session, write_sound(tmp_path / "other.wav", uneven_voice((-20.0, -26.0), rate=44_100), 44_100))


def state_of(bench: Workbench, session: str) -> Changed:
    return sessions.state(bench, session)


def voiced(state: Changed, track: str) -> list[ClipView]:
    return [clip for clip in state.clips if clip.track == track and clip.phrase_start is not None]


def heard(bench: Workbench, track: str) -> np.ndarray:
    """A track as it is rendered, before the fader."""
    source, _, state, _ = sound.render_source(bench, track)
    with open_sound(source) as reader:
        samples = reader.read(0, reader.info.frames)
    gain = np.interp(np.arange(len(samples)), state.gain.at, state.gain.db)
    return samples[:, 0] * 10 ** (gain / 20)


def plain(bench: Workbench, track: str) -> np.ndarray:
    """A track without gain, as the page hears it."""
    (timeline,) = (t.timeline for t in sessions.state(bench, session_of(bench, track)).tracks if t.id == track)
    blocks = [sound.samples(bench, track, timeline.key, at, 1 << 18) for at in range(0, timeline.frames, 1 << 18)]
    return np.concatenate(blocks)[:, 0]


def session_of(bench: Workbench, track: str) -> str:
    with bench.database.reading() as db:
        row = db.get(Track, track)
        assert row is not None
        return row.session_id


# --- moving


@pytest.mark.parametrize("by", [3.0, 0.1234, -0.3])
def test_a_moved_phrase_sounds_and_measures_as_it_did(bench: Workbench, session: str, detail: str, by: float) -> None:
    before = state_of(bench, session)
    phrase = voiced(before, detail)[1]
    was = heard(bench, detail)
    answer = moves.move(bench, detail, before.revision, [phrase.id], by)
    assert answer.undo == f"Move 1 phrase by {by:+.3f} s"
    moved = next(clip for clip in answer.clips if clip.id == phrase.id)
    shift = round(by * RATE)
    assert moved.start == pytest.approx(phrase.start + by, abs=1e-4)
    assert moved.shift == pytest.approx(by, abs=1e-4)
    assert (moved.gain, moved.before) == (phrase.gain, phrase.before)
    assert moved.after == pytest.approx(phrase.after, abs=0.1)
    now = heard(bench, detail)
    # the lift, the dips and the gain came along: inside, it is the same sound to the last bit but for its ramps to others
    inside = slice(round((phrase.start + 0.1) * RATE), round((phrase.end - 0.1) * RATE))
    assert now[inside.start + shift : inside.stop + shift] == pytest.approx(was[inside], abs=2e-4)
    assert np.abs(was[inside]).max() > 0.01
    # an independent measurement of what is rendered
    level = span_levels(measure_samples(now, RATE), moved.phrase_start or 0, moved.phrase_end or 0).loudness
    assert moved.after == pytest.approx(level, abs=0.1)


def test_marks_and_what_the_hand_made_of_them_come_along(bench: Workbench, session: str, detail: str) -> None:
    before = state_of(bench, session)
    first = voiced(before, detail)[0]
    own = [mark for mark in before.marks if mark.kind == "ess" and first.start <= mark.start < first.end]
    assert any(mark.depth == -9.0 for mark in own)
    moves.move(bench, detail, before.revision, [first.id], 9.0)
    after = state_of(bench, session)
    there = [mark for mark in after.marks if mark.kind == "ess" and first.start + 9 <= mark.start < first.end + 9]
    assert [mark.start - 9 for mark in there] == pytest.approx([mark.start for mark in own], abs=1e-3)
    assert [(mark.depth, mark.on) for mark in there] == [(mark.depth, mark.on) for mark in own]
    # correcting it where it lies now works, and is undone
    answer = details.set_depth(bench, detail, after.revision, [there[0].id], to=-4.0)
    assert next(mark for mark in answer.marks if mark.id == there[0].id).depth == -4.0
    moves.bring_home(bench, detail, answer.revision, [first.id])
    home = state_of(bench, session)
    assert next(mark for mark in home.marks if mark.id == own[0].id).depth == -4.0


def test_ride_and_trim_stay_where_they_are(bench: Workbench, session: str, detail: str) -> None:
    state = state_of(bench, session)
    state = drawing.lift_span(bench, detail, state.revision, "ride", 5.5, 6.5, 2.0)
    last = voiced(state_of(bench, session), detail)[-1]
    state = moves.move(bench, detail, state.revision, [last.id], -2.0)
    points = sound.gain_points(bench, detail, ["ride"])
    assert points[:, 1].max() == pytest.approx(2.0)
    # another lift does not cut off what lies beyond the end of the track, which is shorter now
    drawing.lift_span(bench, detail, state.revision, "ride", 0.5, 1.0, 1.0)
    points = sound.gain_points(bench, detail, ["ride"])
    assert points[points[:, 0] > 5.5 * RATE, 1].max() == pytest.approx(2.0)


def test_what_is_covered_is_trimmed_and_undo_brings_it_back(bench: Workbench, session: str, detail: str) -> None:
    before = state_of(bench, session)
    first, second, third = voiced(before, detail)
    answer = moves.move(bench, detail, before.revision, [first.id], second.start + 0.6 - first.start)
    after = state_of(bench, session)
    spans = sorted((clip.start, clip.end) for clip in after.clips)
    assert all(a[1] <= b[0] + 1e-9 for a, b in pairwise(spans))
    cut = next(clip for clip in after.clips if clip.id == second.id)
    assert cut.end == pytest.approx(second.start + 0.6, abs=1e-4)
    assert cut.phrase_end is None or cut.phrase_end <= cut.end
    sessions.undo(bench, session, answer.revision)
    assert content(state_of(bench, session)) == content(before)
    assert third.id in {clip.id for clip in after.clips}


def test_a_copy_is_its_own(bench: Workbench, session: str, detail: str) -> None:
    state = state_of(bench, session)
    second = voiced(state, detail)[1]
    state = moves.paste(bench, detail, state.revision, detail, [second.id], 8.0)
    copy = next(clip for clip in state.clips if clip.start == pytest.approx(8.0))
    assert (copy.gain, copy.label) == (second.gain, second.label)
    assert copy.after == pytest.approx(second.after, abs=0.1)
    state = clips.set_gain(bench, detail, state.revision, [copy.id], by=3.0)
    ess = next(mark for mark in state_of(bench, session).marks if mark.kind == "ess" and mark.start > 8)
    state = details.correct(bench, detail, state.revision, [ess.id], gone=True)
    now = state_of(bench, session)
    assert next(clip for clip in now.clips if clip.id == second.id).gain == second.gain
    assert len([m for m in now.marks if m.kind == "ess" and second.start <= m.start < second.end]) == 2
    assert len([m for m in now.marks if m.kind == "ess" and m.start > 8]) == 1


def test_a_clip_goes_to_another_track_of_another_rate_with_all_that_is_its(
    bench: Workbench, session: str, detail: str, other: str
) -> None:
    before = state_of(bench, session)
    first = voiced(before, detail)[0]
    was = heard(bench, detail)
    ess = next(m for m in before.marks if m.kind == "ess" and m.depth == -9.0)
    moves.move(bench, detail, before.revision, [first.id], 10.0, to_track=other)
    after = state_of(bench, session)
    there = next(clip for clip in after.clips if clip.id == first.id)
    assert there.track == other
    assert there.start == pytest.approx(first.start + 10, abs=1e-4)
    moved = next(m for m in after.marks if m.track == other and m.kind == "ess" and m.depth == -9.0)
    assert moved.start == pytest.approx(ess.start + 10, abs=1e-3)
    assert moved.on is False or moved.depth == -9.0
    own = plain(bench, other)
    wanted = plain_of(detailed_voice(), first)
    level = np.sqrt(np.mean(own[round((first.start + 10) * 44_100) : round((first.end + 10) * 44_100)] ** 2))
    assert level == pytest.approx(np.sqrt(np.mean(wanted**2)), rel=0.01)
    assert len(was) > 0


def plain_of(samples: np.ndarray, clip: ClipView) -> np.ndarray:
    return samples[round(clip.start * RATE) : round(clip.end * RATE)]


def test_a_track_that_is_left_empty_goes_and_comes_back(bench: Workbench, session: str, detail: str, other: str) -> None:
    before = state_of(bench, session)
    all_of_it = [clip.id for clip in before.clips if clip.track == other]
    answer = moves.move(bench, other, before.revision, all_of_it, 20.0, to_track=detail)
    assert [track.id for track in answer.tracks] == [detail]
    assert len(state_of(bench, session).clips) == len(before.clips)
    sessions.undo(bench, session, answer.revision)
    assert content(state_of(bench, session)) == content(before)


def test_what_the_hand_made_outlives_the_track_that_its_clips_left(
    bench: Workbench, session: str, detail: str, other: str
) -> None:
    before = state_of(bench, session)
    all_of_it = [clip.id for clip in before.clips if clip.track == detail]
    answer = moves.move(bench, detail, before.revision, all_of_it, 20.0, to_track=other)
    assert [track.id for track in answer.tracks] == [other]
    now = state_of(bench, session)
    assert sum(mark.depth == -9.0 and mark.by_hand for mark in now.marks) == 1
    assert len([mark for mark in now.marks if mark.kind == "ess"]) == len([m for m in before.marks if m.kind == "ess"])
    sessions.undo(bench, session, answer.revision)
    assert content(state_of(bench, session)) == content(before)


def test_taking_out_leaves_silence_and_closing_the_gap_moves_the_rest_up(bench: Workbench, session: str, detail: str) -> None:
    before = state_of(bench, session)
    first, second, third = voiced(before, detail)
    state = moves.take_out(bench, detail, before.revision, [second.id])
    fade = round(0.005 * RATE)
    silent = plain(bench, detail)[round(second.start * RATE) + fade : round(second.end * RATE) - fade]
    assert not silent.any()
    neighbour = [clip for clip in state_of(bench, session).clips if clip.end <= second.start + 1e-6][-1]
    state = moves.close_gap(bench, detail, state.revision, neighbour.id)
    after = state_of(bench, session)
    moved = next(clip for clip in after.clips if clip.id == third.id)
    assert moved.start == pytest.approx(third.start - (second.end - second.start), abs=1e-4)
    with pytest.raises(NivelusError, match="no silence"):
        moves.close_gap(bench, detail, state.revision, neighbour.id)
    assert first.id in {clip.id for clip in after.clips}


def test_ends_are_trimmed_as_far_as_the_recording_goes(bench: Workbench, session: str, detail: str) -> None:
    state = state_of(bench, session)
    second = voiced(state, detail)[1]
    state = moves.move(bench, detail, state.revision, [second.id], 10.0)
    state = moves.trim(bench, detail, state.revision, second.id, "start", 10.0 + second.start - 0.5)
    trimmed = next(clip for clip in state.clips if clip.id == second.id)
    assert trimmed.start == pytest.approx(10.0 + second.start - 0.5, abs=1e-4)
    # the recording goes on underneath
    at = round((trimmed.start + 0.1) * RATE)
    shifted = round(10.0 * RATE)
    raw = soundfile.read(next(bench.vault.root.glob("*/*/source.wav")), dtype="float32")[0]
    assert np.array_equal(plain(bench, detail)[at : at + 9600], raw[at - shifted : at - shifted + 9600])
    state = moves.trim(bench, detail, state.revision, second.id, "start", 0.0)
    assert next(clip for clip in state.clips if clip.id == second.id).start == pytest.approx(10.0, abs=1e-4)
    with pytest.raises(NivelusError, match="begins here"):
        moves.trim(bench, detail, state.revision, second.id, "start", 5.0)


def test_what_cannot_be_meant_is_told_and_changes_nothing(bench: Workbench, session: str, detail: str, other: str) -> None:
    state = state_of(bench, session)
    first, second, _ = voiced(state, detail)
    state = clips.set_flag(bench, detail, state.revision, [second.id], "locked", True)
    revision = state.revision
    whole = [clip.id for clip in state_of(bench, session).clips if clip.track == other]
    for words, work in (
        ("locked phrase lies there", lambda: moves.move(bench, detail, revision, [first.id], second.start - first.start)),
        ("is locked", lambda: moves.move(bench, detail, revision, [second.id], 1.0)),
        ("hours long", lambda: moves.move(bench, detail, revision, [first.id], 90_000.0)),
        ("all there is", lambda: moves.take_out(bench, other, revision, whole)),
        ("not there any more", lambda: moves.move(bench, detail, revision, ["nobody"], 1.0)),
        ("not there any more", lambda: moves.move(bench, detail, revision, [first.id], 1.0, to_track="nowhere")),
        ("not there any more", lambda: takes.switch(bench, detail, revision, 5)),
        ("lies where it was", lambda: moves.bring_home(bench, detail, revision, [first.id])),
        ("only take", lambda: takes.remove(bench, detail, revision, 0)),
        ("start stamp", lambda: arranging.arrange(bench, session, revision, [detail, other], "stamps")),
    ):
        with pytest.raises(NivelusError, match=words):
            work()
        assert state_of(bench, session).revision == revision


def test_before_the_beginning_there_is_nothing(bench: Workbench, session: str, detail: str) -> None:
    state = state_of(bench, session)
    second = voiced(state, detail)[1]
    state = moves.move(bench, detail, state.revision, [second.id], -100.0)
    assert next(clip for clip in state.clips if clip.id == second.id).start == 0
    with pytest.raises(NivelusError, match="nothing before it"):
        moves.move(bench, detail, state.revision, [second.id], -1.0)


# --- takes


@pytest.fixture
def three(bench: Workbench, session: str, tmp_path: Path) -> list[str]:
    """Three takes of the same two phrases, each louder than the last."""
    voices = [uneven_voice((-30.0 + 4 * n, -24.0 + 4 * n, -27.0 + 4 * n)) for n in range(3)]
    return [bring_in(bench, session, write_sound(tmp_path / f"lead take {n + 1}.wav", voice)) for n, voice in enumerate(voices)]


def test_files_that_are_called_alike_are_takes(bench: Workbench, session: str, three: list[str]) -> None:
    assert arranging.likely(bench, session, three).likely == "takes"
    before = state_of(bench, session)
    answer = arranging.arrange(bench, session, before.revision, three, "takes")
    (track,) = answer.tracks
    assert track.name == "lead"
    assert [take.name for take in track.takes] == [f"take {n}" for n in (1, 2, 3)]
    listed = takes.view(bench, track.id).items
    assert [take.count for take in listed] == [3, 3, 3]
    assert [take.level for take in listed] == pytest.approx([-27, -23, -19], abs=2.5)
    sessions.undo(bench, session, answer.revision)
    assert content(state_of(bench, session)) == content(before)


def test_takes_are_heard_matched_and_chosen_phrase_by_phrase(bench: Workbench, session: str, three: list[str]) -> None:
    before = state_of(bench, session)
    state = arranging.arrange(bench, session, before.revision, three, "takes")
    (track,) = (t.id for t in state.tracks)
    louder = [clip for clip in before.clips if clip.track == three[1]]
    state = takes.match(bench, track, state.revision)
    levels = [take.level for take in takes.view(bench, track).items]
    assert levels == pytest.approx([levels[0]] * 3, abs=0.05)
    mine = voiced(state_of(bench, session), track)
    # every phrase is said in each take, at the same time
    for take in takes.view(bench, track).items:
        spans = {clip.id: (clip.phrase_start, clip.phrase_end) for clip in take.clips}
        stands = [[spans[id] for id in take.stands.get(clip.id, [])] for clip in mine]
        if take.number == 0:
            assert stands == [[], [], []]
        else:
            assert [len(own) for own in stands] == [1, 1, 1]
            assert all(
                own[0][0] < clip.phrase_end and own[0][1] > clip.phrase_start for own, clip in zip(stands, mine, strict=True)
            )
    state = takes.choose(bench, track, state.revision, mine[1].id, 1)
    now = voiced(state_of(bench, session), track)
    assert len(now) == 3
    chosen = now[1]
    assert chosen.recording != ""
    # and it is known to be of the other take
    names = {take.number: take.recordings for take in state.tracks[0].takes}
    assert "" in names[0]
    assert chosen.recording in names[1]
    assert chosen.before == pytest.approx(next(c.before for c in louder if c.phrase_start == mine[1].phrase_start), abs=0.05)
    assert chosen.phrase_start == pytest.approx(mine[1].phrase_start, abs=0.02)
    # it is the other recording that is heard, up to the pauses on both sides, without a hole
    every = sorted((clip.start, clip.end) for clip in state_of(bench, session).clips if clip.track == track)
    assert all(a[1] == pytest.approx(b[0]) for a, b in pairwise(every))
    inside = slice(round((chosen.start + 0.01) * RATE), round((chosen.end - 0.01) * RATE))
    raw = uneven_voice((-26.0, -20.0, -23.0))
    assert plain(bench, track)[inside] == pytest.approx(raw[inside], abs=1e-4)
    state = takes.switch(bench, track, state.revision, 2)
    assert voiced(state_of(bench, session), track)[0].before == pytest.approx(-22, abs=3)
    assert state.tracks[0].take == 2


def test_one_after_the_other(bench: Workbench, session: str, three: list[str]) -> None:
    before = state_of(bench, session)
    lengths = [track.timeline.duration for track in before.tracks]
    state = arranging.arrange(bench, session, before.revision, three, "after")
    (track,) = state.tracks
    assert track.timeline.duration == pytest.approx(sum(lengths), abs=1e-3)
    assert len(voiced(state_of(bench, session), track.id)) == 9


def stamped(path: Path, voice: np.ndarray, at: float) -> Path:
    """A broadcast wave with a start stamp, seconds since midnight; by the program's own writer."""
    from nivelus.core.sound.bwf import Bext
    from nivelus.core.sound.writer import SoundWriter

    with SoundWriter(path, RATE, 1, bext=Bext(time_reference=round(at * RATE))) as writer:
        writer.write(voice[:, None])
    return path


def test_files_lie_where_their_start_stamps_say(bench: Workbench, session: str, tmp_path: Path) -> None:
    """Also past midnight, and beside one without a stamp."""
    voices = [uneven_voice((-20.0 - n, -30.0)) for n in range(3)]
    made = [
        stamped(tmp_path / "host.wav", voices[0], 86_398.0),
        stamped(tmp_path / "guest.wav", voices[1], 2.5),
        write_sound(tmp_path / "phone.wav", voices[2]),
    ]
    tracks = [bring_in(bench, session, path) for path in made]
    assert arranging.likely(bench, session, tracks).likely == "stamps"
    state = arranging.arrange(bench, session, state_of(bench, session).revision, tracks, "stamps")
    assert "1 without a start stamp stays" in state.told
    now = state_of(bench, session)
    starts = {track: min(clip.start for clip in now.clips if clip.track == track) for track in tracks}
    assert [starts[track] for track in tracks] == pytest.approx([0.0, 4.5, 0.0], abs=1e-4)
    guest = [clip for clip in now.clips if clip.track == tracks[1]]
    state = moves.move(bench, tracks[1], now.revision, [clip.id for clip in guest], 3.0)
    state = moves.bring_home(bench, tracks[1], state.revision, [clip.id for clip in guest])
    assert min(c.start for c in state.clips if c.track == tracks[1]) == pytest.approx(4.5, abs=1e-4)


def test_stamps_that_are_no_session_are_refused(bench: Workbench, session: str, tmp_path: Path) -> None:
    made = [stamped(tmp_path / f"{n}.wav", uneven_voice((-20.0 - n,)), 1000.0 + n * 40_000) for n in range(2)]
    tracks = [bring_in(bench, session, path) for path in made]
    with pytest.raises(NivelusError, match="h apart"):
        arranging.arrange(bench, session, state_of(bench, session).revision, tracks, "stamps")


def test_a_recording_that_went_missing_takes_nothing_else_along(bench: Workbench, session: str, three: list[str]) -> None:
    """Its take says so and can still be moved; the others are heard, and all is well when it is brought in again."""
    from nivelus.services.mending import mend

    state = arranging.arrange(bench, session, state_of(bench, session).revision, three, "takes")
    (track,) = (t.id for t in state.tracks)
    state = takes.choose(bench, track, state.revision, voiced(state_of(bench, session), track)[1].id, 1)
    with bench.database.reading() as db:
        lost = sorted(bench.vault.hashes())[0]
        names = {row.hash: row.id for row in db.query(Recording)}
    source = bench.vault.sound_of(lost)
    assert source is not None
    source.rename(source.with_name("elsewhere"))
    assert "lost its file" in " ".join(mend(bench))
    listed, state = takes.view(bench, track).items, state_of(bench, session)
    assert 1 <= sum(take.missing for take in listed) <= 2
    for take in listed:
        state = takes.switch(bench, track, state.revision, take.number) if take.number != state.tracks[0].take else state
        assert state.tracks[0].timeline.missing == take.missing
        last = voiced(state_of(bench, session), track)[-1]
        state = moves.move(bench, track, state.revision, [last.id], 5.0)
        assert next(c for c in state_of(bench, session).clips if c.id == last.id).start == pytest.approx(last.start + 5)
        if take.missing and last.recording == ("" if names[lost] == own_of(bench, track) else names[lost]):
            with pytest.raises(NivelusError, match="missing"):
                moves.trim(bench, track, state.revision, last.id, "end", last.end + 4)
    source.with_name("elsewhere").rename(source)
    mend(bench)
    assert not any(take.missing for take in takes.view(bench, track).items)


def own_of(bench: Workbench, track: str) -> str:
    with bench.database.reading() as db:
        row = db.get(Track, track)
        assert row is not None
        return row.recording_id


@pytest.mark.parametrize("unit", ["loudness", "rms", "peak"])
def test_a_mono_voice_beside_a_stereo_one_is_judged_as_it_sounds(
    bench: Workbench, session: str, tmp_path: Path, unit: str
) -> None:
    """On one track: half as strong in each channel, so that its loudness stays; every figure is that of what is rendered."""
    wide = np.repeat(uneven_voice((-22.0, -28.0))[:, None], 2, 1)
    tracks = [
        bring_in(bench, session, write_sound(tmp_path / "wide.wav", wide)),
        bring_in(bench, session, write_sound(tmp_path / "mono.wav", uneven_voice((-20.0, -31.0)))),
    ]
    revision = sessions.update(bench, session, state_of(bench, session).revision, {"unit": unit}).revision
    own = [clip.before for clip in voiced(state_of(bench, session), tracks[1])]
    arranging.arrange(bench, session, revision, tracks, "after")
    source, *_ = sound.render_source(bench, tracks[0])
    with open_sound(source) as reader:
        grid = measure_samples(reader.read(0, reader.info.frames), RATE)
    clips_now = voiced(state_of(bench, session), tracks[0])
    assert len(clips_now) == 4
    for clip in clips_now:
        levels = span_levels(grid, clip.phrase_start or 0, clip.phrase_end or 0)
        wanted = {"loudness": levels.loudness, "rms": levels.rms, "peak": levels.true_peak}[unit]
        assert clip.before == pytest.approx(wanted, abs=0.1)
        assert clip.after == pytest.approx(wanted, abs=0.1)
    moved = [clip.before - was for clip, was in zip(clips_now[2:], own, strict=True) if clip.before and was]
    assert moved == pytest.approx([0.0 if unit == "loudness" else -3.01] * 2, abs=0.02)


# --- all of it, there and back


def steps(bench: Workbench, session: str, detail: str, other: str) -> list[Step]:
    """Every edit of a timeline, on whatever lies there."""

    def some(state: Changed, track: str, place: int) -> str:
        own = voiced(state, track)
        return own[min(place, len(own) - 1)].id

    return [
        lambda s: moves.move(bench, detail, s.revision, [some(s, detail, 1)], 4.0),
        lambda s: moves.move(bench, detail, s.revision, [some(s, detail, 0)], 0.777),
        lambda s: moves.paste(bench, detail, s.revision, detail, [some(s, detail, 0), some(s, detail, 1)], 12.0),
        lambda s: moves.paste(bench, detail, s.revision, other, [some(s, other, 0)], 3.3),
        lambda s: details.find_again(bench, detail, s.revision),
        lambda s: clips.cut(bench, detail, s.revision, 12.0 + 1.0),
        lambda s: moves.trim(bench, detail, s.revision, some(s, detail, 9), "end", 60.0),
        lambda s: moves.move(bench, other, s.revision, [some(s, other, 0)], 0.0, to_track=detail, to_take=-1),
        lambda s: drawing.lift_span(bench, detail, s.revision, "curve", 12.2, 12.8, -2.0),
        lambda s: takes.rename(bench, detail, s.revision, 1, "The other one"),
        lambda s: takes.match(bench, detail, s.revision),
        lambda s: takes.switch(bench, detail, s.revision, 1),
        lambda s: moves.move(bench, detail, s.revision, [some(s, detail, 0)], 1.0),
        lambda s: takes.switch(bench, detail, s.revision, 0),
        lambda s: moves.take_out(bench, detail, s.revision, [some(s, detail, 0)]),
        lambda s: phrases.find_again(bench, detail, s.revision),
        lambda s: details.set_rule(bench, detail, s.revision, "breath", {"on": True}),
        lambda s: takes.remove(bench, detail, s.revision, 1),
        lambda s: moves.bring_home(bench, detail, s.revision, [next(c.id for c in voiced(s, detail) if c.shift)]),
    ]


def test_every_edit_is_answered_undone_and_redone_exactly(
    bench: Workbench, session: str, detail: str, other: str, settings: Settings
) -> None:
    """Merged answers equal a fresh load, there and back, also after a restart."""
    known = known_of(state_of(bench, session))
    states = [content(state_of(bench, session))]
    for work in steps(bench, session, detail, other):
        before = state_of(bench, session)
        answer = work(before)
        assert answer.revision == before.revision + 1
        known = put_in(known, answer)
        same(known, state_of(bench, session))
        for track in answer.tracks:
            kept_is_stored(bench, track.id)
        same(known, state_of(bench, session))
        states.append(content(state_of(bench, session)))
        for track in answer.tracks:
            spans = sorted((clip.start, clip.end) for clip in state_of(bench, session).clips if clip.track == track.id)
            assert all(a[1] <= b[0] + 1e-9 for a, b in pairwise(spans))
    for expected in reversed(states[:-1]):
        answer = sessions.undo(bench, session, state_of(bench, session).revision)
        known = put_in(known, answer)
        same(known, state_of(bench, session))
        assert content(state_of(bench, session)) == expected
        for track in answer.tracks:
            kept_is_stored(bench, track.id)
    bench.close()
    again = Workbench(settings)
    try:
        for expected in states[1:]:
            sessions.redo(again, session, state_of(again, session).revision)
            assert content(state_of(again, session)) == expected
    finally:
        again.close()


def test_a_history_from_before_there_were_timelines_is_walked_to_its_ends(
    bench: Workbench, track: str, settings: Settings
) -> None:
    """Its steps know nothing of takes, recordings and shifts, and neither do its tables."""
    from alembic import command

    from nivelus.store import database
    from nivelus.store.steps import pack_again, unpack_step
    from nivelus.store.tables import Change

    own = session_of(bench, track)
    states = [content(state_of(bench, own))]
    for work in edits(bench, track):
        work(state_of(bench, own))
        states.append(content(state_of(bench, own)))
    newer = {"clip": ("take", "recording_id", "shift"), "detail": ("take", "recording_id", "shift"), "session": ("origin",)}
    newer |= {"track": ("take", "takes"), "mark_set": ("recording_id",)}
    with bench.database.writing() as db:
        for change in db.query(Change):
            rows = unpack_step(change.data)
            for row in rows:
                for side in filter(None, (row["before"], row["after"])):
                    for name in newer.get(row["table"], ()):
                        side.pop(name, None)
            change.data = pack_again(rows)
    config = database._alembic()
    config.attributes["engine"] = bench.database.engine
    command.downgrade(config, "0007")
    bench.close()
    again = Workbench(settings)
    try:
        assert content(state_of(again, own)) == states[-1]
        for expected in reversed(states[:-1]):
            sessions.undo(again, own, state_of(again, own).revision)
            assert content(state_of(again, own)) == expected
        for expected in states[1:]:
            sessions.redo(again, own, state_of(again, own).revision)
            assert content(state_of(again, own)) == expected
        # and what was brought up goes on
        state = state_of(again, own)
        moves.move(again, track, state.revision, [voiced(state, track)[0].id], 5.0)
    finally:
        again.close()
