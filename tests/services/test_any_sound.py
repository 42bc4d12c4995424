"""Any sound that a person has, through an import: decoded, asked about, kept as it came, and nothing left behind."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from nivelus.core.errors import Refused
from nivelus.core.sound.decoding import Decoded, decode
from nivelus.jobs.queue import run_job
from nivelus.services.files import coming, renders
from nivelus.services.files.imports import run_import, stage_file
from nivelus.services.sessions import cards, jobs, sessions
from nivelus.services.track.workbench import Workbench
from nivelus.services.upkeep.checking import check
from nivelus.services.upkeep.mending import mend
from nivelus.settings import Settings
from nivelus.store.recording_rows import every_recording
from tests.conftest import bring_in, uneven_voice, write_sound
from tests.helpers.media import as_ffmpeg_decodes, encoded, ffmpeg


@pytest.fixture
def memo(tmp_path: Path) -> Path:
    """A memo of a telephone."""
    return encoded(write_sound(tmp_path / "v.wav", uneven_voice()), tmp_path / "memo.m4a")


@pytest.fixture
def film(tmp_path: Path) -> Path:
    """A video with two sound tracks, the second of which is the voice; players take the first."""
    voice = write_sound(tmp_path / "voice.wav", uneven_voice())
    other = write_sound(tmp_path / "other.wav", uneven_voice((-20.0,)))
    ffmpeg("-i", other, "-i", voice, "-map", "0:a", "-map", "1:a", "-c:a", "flac", tmp_path / "film.mkv")
    return tmp_path / "film.mkv"


def recorded(bench: Workbench) -> list[tuple[str, str, str]]:
    """The recordings: hash, suffix and format."""
    with bench.database.reading() as db:
        return [(one.hash, one.suffix, one.format) for one in every_recording(db)]


def left(bench: Workbench) -> list[Path]:
    return list(bench.vault.incoming.iterdir())


def test_a_memo_comes_in_as_any_recording_and_is_kept_as_it_was(bench: Workbench, memo: Path, settings: Settings) -> None:
    session = sessions.create(bench, "Memo")
    track = bring_in(bench, session, memo)
    state = sessions.state(bench, session)
    assert state.tracks[0].name == "memo"
    assert state.tracks[0].timeline.formats == ["M4A"]
    assert len([clip for clip in state.clips if clip.phrase_start is not None]) == 4
    ((hash, suffix, format),) = recorded(bench)
    assert (suffix, format) == ("wav", "M4A")
    assert (bench.vault.folder(hash) / "original").read_bytes() == memo.read_bytes()
    assert left(bench) == []
    # what is heard is what is in it, and untouched it is rendered so
    job = renders.request(bench, track, "wav", 32, False)
    renders.run_render(bench, job.id)
    rendered = soundfile.read(renders.rendered_file(bench, job.id)[0], dtype="float32")[0]
    assert np.abs(rendered - as_ffmpeg_decodes(memo)[: len(rendered)]).max() < 1e-4
    # the same memo once more is the same recording
    bring_in(bench, session, memo)
    assert len(recorded(bench)) == 1
    assert left(bench) == []
    assert mend(bench) == []
    bench.close()
    assert all(finding.good for finding in check(settings))


def test_several_sound_tracks_are_asked_about_and_the_one_that_was_chosen_comes_in(bench: Workbench, film: Path) -> None:
    session = sessions.create(bench, "Film")
    job = stage_file(bench, session, film).id
    run_import(bench, job)
    (asked,) = jobs.list_jobs(bench, session)
    assert (asked.state, asked.message) == ("asks", "“film.mkv” has 2 sound tracks. Choose one.")
    assert asked.options == ["1 · mono, flac", "2 · mono, flac"]
    (card,) = cards.list_cards(bench)
    assert (card.importing, card.asking) == (1, 1)
    assert sessions.state(bench, session).tracks == []
    # it waits, also for the next start, and is nobody's work meanwhile
    assert jobs.begin_anew(bench) == []
    assert mend(bench) == []
    run_job(bench, job)
    with pytest.raises(Refused, match="still running"):
        jobs.dismiss(bench, job)
    with pytest.raises(Refused, match="none of what can be chosen"):
        jobs.choose(bench, job, 2)
    assert jobs.choose(bench, job, 1).state == "waiting"
    with pytest.raises(Refused, match="answered already"):
        jobs.choose(bench, job, 0)
    run_import(bench, job)
    (done,) = jobs.list_jobs(bench, session)
    assert (done.state, done.options) == ("done", [])
    assert len([clip for clip in sessions.state(bench, session).clips if clip.phrase_start is not None]) == 4
    assert left(bench) == []


def test_what_asks_can_be_stopped(bench: Workbench, film: Path) -> None:
    session = sessions.create(bench, "Film")
    job = stage_file(bench, session, film).id
    run_import(bench, job)
    assert jobs.cancel(bench, job).state == "cancelled"
    with pytest.raises(Refused, match="answered already"):
        jobs.choose(bench, job, 0)
    jobs.dismiss(bench, job)
    assert left(bench) == []


def test_what_cannot_be_decoded_is_told_and_leaves_nothing(bench: Workbench, memo: Path, tmp_path: Path) -> None:
    session = sessions.create(bench, "None")
    (tmp_path / "half.m4a").write_bytes(memo.read_bytes()[:2000])
    job = stage_file(bench, session, tmp_path / "half.m4a").id
    run_import(bench, job)
    (failed,) = jobs.list_jobs(bench, session)
    assert failed.state == "failed"
    assert failed.message.startswith("“half.m4a” is not a sound file that can be read.")
    assert left(bench) == []
    assert recorded(bench) == []


def test_damaged_places_are_told(bench: Workbench, memo: Path, tmp_path: Path) -> None:
    data = bytearray(memo.read_bytes())
    at = data.index(b"mdat") + 4 + (len(data) - data.index(b"mdat")) // 3
    data[at : at + 300] = bytes(300)
    (tmp_path / "damaged.m4a").write_bytes(data)
    session = sessions.create(bench, "Damaged")
    job = stage_file(bench, session, tmp_path / "damaged.m4a").id
    run_import(bench, job)
    (done,) = jobs.list_jobs(bench, session)
    assert done.state == "done"
    assert "“damaged.m4a” is damaged in" in done.message


def test_an_upload_that_the_database_has_lost_is_kept_decoded(bench: Workbench, memo: Path, film: Path) -> None:
    for name, path in (("one", memo), ("two", film)):
        (bench.vault.incoming / name).write_bytes(path.read_bytes())
    (bench.vault.incoming / "one.decoded").write_bytes(b"half of it")
    (bench.vault.incoming / ".one.decoded.abc.part").write_bytes(b"half of it")
    assert sum("was kept with the recordings" in said for said in mend(bench)) == 2
    assert left(bench) == []
    originals = [bench.vault.folder(hash) / "original" for hash in bench.vault.hashes()]
    assert {one.read_bytes() for one in originals} == {memo.read_bytes(), film.read_bytes()}


def parted(bench: Workbench, job: str, way: int = 0) -> list[str]:
    """Take a file of many channels apart: voices of their own, or 1 for the microphones of one; the jobs of its channels."""
    assert run_job(bench, job) == []
    asked = jobs.view_job(jobs.get(bench, job))
    assert (asked.state, asked.options) == ("asks", ["Voices of their own", "Microphones of one voice"])
    jobs.choose(bench, job, way)
    return run_job(bench, job)


def poly(tmp_path: Path, name: str = "A001.wav") -> Path:
    """A file of a field recorder: two voices, a silent channel, and the first once more."""
    one, two = uneven_voice(), uneven_voice((-20.0, -30.0, -25.0, -28.0))
    return write_sound(tmp_path / name, np.column_stack([one, two, 0 * one, one]))


def test_a_file_of_many_channels_comes_in_as_tracks(bench: Workbench, settings: Settings, tmp_path: Path) -> None:
    session = sessions.create(bench, "Set")
    first = stage_file(bench, session, poly(tmp_path)).id
    other = stage_file(bench, session, write_sound(tmp_path / "later.wav", uneven_voice((-22.0,)))).id
    more = parted(bench, first)
    assert len(more) == 3
    for job in (*more, other):
        assert run_job(bench, job) == []
    items = jobs.list_jobs(bench, session)
    assert {one.state for one in items} == {"done"}
    assert items[0].message == (
        "“A001.wav” has 4 channels: each is a track of its own. 3 of 4 is silent and left out. 4 of 4 is the same as 1 of 4."
    )
    state = sessions.state(bench, session)
    assert [track.name for track in state.tracks] == ["later", "1 of 4", "2 of 4", "4 of 4"]
    assert [track.timeline.channels for track in state.tracks] == [1] * 4
    # the same samples are the same recording
    assert len(recorded(bench)) == 3
    assert left(bench) == []
    bench.close()
    assert all(finding.good for finding in check(settings))


def test_channels_are_taken_apart_once_however_often_it_is_begun(
    bench: Workbench, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    session = sessions.create(bench, "Set")
    job = stage_file(bench, session, poly(tmp_path)).id

    def killed(*_: object) -> None:
        raise SystemExit

    assert run_import(bench, job) == []
    jobs.choose(bench, job, 0)
    with monkeypatch.context() as patch:
        # the program ends before the new jobs are written down
        patch.setattr(jobs, "require_at_work", killed)
        with pytest.raises(SystemExit):
            run_import(bench, job)
    assert left(bench) == [bench.vault.incoming / job]
    assert jobs.begin_anew(bench) == [job]
    more = run_import(bench, job)
    assert run_import(bench, job) == more
    assert [one.state for one in jobs.list_jobs(bench, session)] == ["done", *["waiting"] * 3]


@pytest.mark.parametrize("is_lost", [False, True])
def test_sound_round_a_room_comes_in_as_tracks_called_by_where_they_sound(
    bench: Workbench, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, is_lost: bool
) -> None:
    decoded: list[str] = []

    def counted(path: Path, target: Path, name: str, *more: Any) -> Decoded:
        decoded.append(name)
        return decode(path, target, name, *more)

    monkeypatch.setattr(coming, "decode", counted)
    source = write_sound(tmp_path / "v.wav", np.column_stack([uneven_voice()] * 6))
    film = tmp_path / "film.mkv"
    ffmpeg("-i", source, "-af", "pan=5.1|c0=0.5*c0|c1=0.6*c0|c2=c0|c4=0.2*c0|c5=0.3*c0", "-c:a", "flac", film)
    session = sessions.create(bench, "Film")
    id = stage_file(bench, session, film).id
    assert run_job(bench, id) == []
    if is_lost:
        bench.vault.decoded(id).unlink()
    jobs.choose(bench, id, 0)
    for job in run_job(bench, id):
        run_job(bench, job)
    # what was decoded before the question is what is taken apart after it
    assert decoded == ["film.mkv"] * (1 + is_lost)
    # the video stays with the first of its channels
    originals = [one for one in (bench.vault.folder(hash) / "original" for hash in bench.vault.hashes()) if one.exists()]
    assert [one.read_bytes() for one in originals] == [film.read_bytes()]
    names = [track.name for track in sessions.state(bench, session).tracks]
    assert names[:3] == ["front left", "front right", "front center"]
    assert len(names) == 5
    assert left(bench) == []


def test_many_channels_that_the_database_has_lost_are_kept(bench: Workbench, tmp_path: Path) -> None:
    (bench.vault.incoming / "one").write_bytes(poly(tmp_path).read_bytes())
    (bench.vault.incoming / "tmpabc").mkdir()
    assert any("was kept with the recordings" in said for said in mend(bench))
    # the first and the last are the same
    assert len(bench.vault.hashes()) == 2
    assert left(bench) == []
