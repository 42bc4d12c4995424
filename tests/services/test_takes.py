"""Takes and files laid out together, on the real services and database: which belong together, what is chosen of each."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest

from nivelus.core.errors import NivelusError
from nivelus.core.measure.grid import measure_samples
from nivelus.core.measure.spans import span_levels
from nivelus.core.sound.bwf import Bext
from nivelus.core.sound.timeline import open_sound
from nivelus.core.sound.writer import SoundWriter
from nivelus.services.clips import arranging, clips, moves, takes
from nivelus.services.lanes import drawing
from nivelus.services.sessions import sessions
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.services.upkeep.mending import mend
from nivelus.store.tables import Recording
from tests.conftest import RATE, bring_in, uneven_voice, write_sound
from tests.helpers.edits import content
from tests.helpers.near import near
from tests.helpers.timelines import own_of, plain, state_of, voiced


@pytest.fixture
def session(bench: Workbench) -> str:
    return sessions.create(bench, "Takes")


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
    assert plain(bench, track)[inside] == near(raw[inside], abs=1e-4)
    state = takes.switch(bench, track, state.revision, 2)
    assert voiced(state_of(bench, session), track)[0].before == pytest.approx(-22, abs=3)
    assert state.tracks[0].take == 2


@pytest.mark.parametrize("matched", [False, True])
def test_a_take_that_is_chosen_is_as_loud_as_the_phrase_in_whose_place_it_comes(
    bench: Workbench, session: str, three: list[str], matched: bool
) -> None:
    """It was auditioned so; whatever lies on the track, and with the phrase's own gain. What stands in the way is told."""
    state = arranging.arrange(bench, session, state_of(bench, session).revision, three, "takes")
    (track,) = (t.id for t in state.tracks)
    if matched:
        state = takes.match(bench, track, state.revision)
    mine = voiced(state_of(bench, session), track)
    state = clips.set_gain(bench, track, state.revision, [mine[1].id], by=3.0)
    state = drawing.lift_span(bench, track, state.revision, "trim", mine[1].start, mine[1].end, -2.0)
    wanted = voiced(state_of(bench, session), track)[1].after
    answer = takes.choose(bench, track, state.revision, mine[1].id, 2)
    now = voiced(state_of(bench, session), track)
    assert now[1].recording
    assert now[1].after == pytest.approx(wanted, abs=0.1)
    assert not answer.told


def test_what_keeps_a_chosen_take_from_being_as_loud_is_told(bench: Workbench, session: str, three: list[str]) -> None:
    """A take that is 8 dB quieter, in place of a phrase that is lifted by much."""
    state = arranging.arrange(bench, session, state_of(bench, session).revision, three, "takes")
    (track,) = (t.id for t in state.tracks)
    state = takes.switch(bench, track, state.revision, 2)
    loud = voiced(state_of(bench, session), track)[1]
    state = clips.set_gain(bench, track, state.revision, [loud.id], by=6.0)
    wanted = voiced(state_of(bench, session), track)[1].after
    answer = takes.choose(bench, track, state.revision, loud.id, 0)
    assert voiced(state_of(bench, session), track)[1].after == pytest.approx(wanted, abs=0.1)
    assert "beyond the upper limit of +9.0 dB" in answer.told
    state = sessions.undo(bench, session, answer.revision)
    state = clips.set_gain(bench, track, state.revision, [loud.id], by=14.0)
    answer = takes.choose(bench, track, state.revision, loud.id, 0)
    assert voiced(state_of(bench, session), track)[1].gain == 24.0
    assert "24 dB of gain is the most there is" in answer.told


def test_one_after_the_other(bench: Workbench, session: str, three: list[str]) -> None:
    before = state_of(bench, session)
    lengths = [track.timeline.duration for track in before.tracks]
    state = arranging.arrange(bench, session, before.revision, three, "after")
    (track,) = state.tracks
    assert track.timeline.duration == pytest.approx(sum(lengths), abs=1e-3)
    assert len(voiced(state_of(bench, session), track.id)) == 9


def stamped(path: Path, voice: np.ndarray, at: float) -> Path:
    """A broadcast wave with a start stamp, seconds since midnight; by the program's own writer."""
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
