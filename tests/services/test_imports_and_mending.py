"""Imports end as a whole track or as nothing; what a crash leaves is mended at the next start."""

from __future__ import annotations

import hashlib
import io
import re
from pathlib import Path

import numpy as np
import pytest

from nivelus.core.errors import NotFound, Refused
from nivelus.jobs.queue import JobQueue, run_job
from nivelus.services.files import imports, renders
from nivelus.services.sessions import jobs, sessions
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.services.upkeep.mending import mend
from nivelus.settings import Settings
from nivelus.store.lock import DataLock
from nivelus.store.tables import Clip, Recording
from tests.conftest import RATE, bring_in, hum, uneven_voice, write_sound
from tests.helpers.edits import state_of
from tests.helpers.files import bad_files

FILES = 4
"""Of a recording in the vault: its sound, its grid, its waveform, and what it is."""


def files_below(folder: Path) -> list[str]:
    return sorted(str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file())


def test_a_good_file_becomes_a_track(bench: Workbench, voice_file: Path) -> None:
    session = sessions.create(bench, "One")
    track = bring_in(bench, session, voice_file)
    state = sessions.state(bench, session)
    assert state.tracks[0].name == "uneven voice"
    assert state.undo == "Import uneven voice.wav"
    assert (state.tracks[0].timeline.channels, state.tracks[0].timeline.sample_rate) == (1, RATE)
    assert files_below(bench.vault.incoming) == []
    assert len(files_below(bench.vault.root)) == FILES
    assert sound.samples(bench, track, state.tracks[0].timeline.key, 0, 100).shape == (100, 1)
    assert track == state.tracks[0].id


@pytest.mark.parametrize("kind", ["empty", "text", "cut wav", "cut flac", "crowd", "too fast", "no samples"])
def test_a_bad_file_says_why_and_leaves_nothing(bench: Workbench, tmp_path: Path, kind: str) -> None:
    path, _, words = bad_files(tmp_path)[kind]
    session = sessions.create(bench, "One")
    job = imports.stage_file(bench, session, path)
    imports.run_import(bench, job.id)
    done = jobs.view_job(jobs.get(bench, job.id))
    assert done.state == "failed"
    assert path.name in done.message
    assert words in done.message
    assert sessions.state(bench, session).tracks == []
    assert files_below(bench.vault.incoming) == files_below(bench.vault.root) == []


def test_tracks_stand_in_the_order_of_their_files(bench: Workbench, voice_file: Path) -> None:
    """Whichever is read first; one that is refused is passed over, and what comes later is behind them."""
    session = sessions.create(bench, "One")
    bad = voice_file.parent / "bad.wav"
    bad.write_bytes(b"RIFF but not sound")
    staged = [
        imports.stage_file(bench, session, path, name) for path, name in ((voice_file, "a"), (bad, "b"), (voice_file, "c"))
    ]
    for job in reversed(staged):
        imports.run_import(bench, job.id)
    imports.run_import(bench, imports.stage_file(bench, session, voice_file, "d").id)
    assert [track.name for track in sessions.state(bench, session).tracks] == ["a", "c", "d"]


def test_silence_and_nan_are_refused(bench: Workbench, tmp_path: Path) -> None:
    session = sessions.create(bench, "One")
    broken = hum(-20, 1)
    broken[3000] = np.nan
    for name, samples, words in (("quiet.wav", np.zeros(RATE), "silent"), ("broken.wav", broken, "not numbers")):
        job = imports.stage_file(bench, session, write_sound(tmp_path / name, samples, subtype="FLOAT"))
        imports.run_import(bench, job.id)
        assert words in jobs.get(bench, job.id).message


def test_the_same_content_is_stored_once(bench: Workbench, voice_file: Path) -> None:
    session = sessions.create(bench, "One")
    first, second = (bring_in(bench, session, voice_file) for _ in range(2))
    assert first != second
    state = sessions.state(bench, session)
    assert state.tracks[0].timeline.key == state.tracks[1].timeline.key
    assert [t.position for t in state.tracks] == [0, 1]
    assert len(files_below(bench.vault.root)) == FILES


def test_a_recording_that_an_older_version_stored_is_known_and_keeps_its_hash(bench: Workbench, voice_file: Path) -> None:
    session = sessions.create(bench, "One")
    bring_in(bench, session, voice_file)
    sha = hashlib.sha256(voice_file.read_bytes()).hexdigest()
    with bench.database.writing() as db:
        recording = db.query(Recording).one()
        old = bench.vault.folder(recording.hash)
        bench.vault.folder(sha).parent.mkdir()
        old.rename(bench.vault.folder(sha))
        recording.hash = sha
    data = voice_file.read_bytes()
    job = imports.stage_upload(bench, session, "again.wav", io.BytesIO(data), len(data))
    run_job(bench, job.id)
    state = sessions.state(bench, session)
    assert len({track.timeline.key for track in state.tracks}) == 1
    assert bench.vault.hashes() == {sha}
    assert mend(bench) == []


def test_an_upload_is_streamed_and_limited(bench: Workbench, voice_file: Path, settings: Settings) -> None:
    session = sessions.create(bench, "One")
    data = voice_file.read_bytes()

    class Dribble(io.RawIOBase):
        def __init__(self) -> None:
            self.at = 0
            self.largest = 0

        def read(self, size: int = -1) -> bytes:
            self.largest = max(self.largest, size)
            part = data[self.at : self.at + min(size, 7000)]
            self.at += len(part)
            return part

    stream = Dribble()
    job = imports.stage_upload(bench, session, "../../etc/pass\x00wd.wav", stream, len(data))
    assert job.name == "passwd.wav"
    assert 0 < stream.largest <= 1 << 20
    assert (bench.vault.incoming / job.id).read_bytes() == data
    with pytest.raises(Refused, match="incomplete"):
        imports.stage_upload(bench, session, "a.wav", io.BytesIO(data[:100]), len(data))
    settings.max_upload_mb = 0
    with pytest.raises(Refused, match="larger than 0 MB"):
        imports.stage_upload(bench, session, "a.wav", io.BytesIO(data), len(data))
    with pytest.raises(NotFound):
        imports.stage_upload(bench, "nothing", "a.wav", io.BytesIO(data), len(data))
    assert files_below(bench.vault.incoming) == [job.id]


@pytest.mark.parametrize(
    ("given", "kept"),
    [("C:\\voices\\a.wav", "a.wav"), ("/etc/passwd", "passwd"), ("..", ".."), ("\x1b[31m", "[31m"), ("", "recording")],
)
def test_file_names_from_outside_are_only_names(given: str, kept: str) -> None:
    assert imports.safe_file_name(given) == kept


def test_a_waiting_job_stops_at_once_and_a_running_one_at_its_next_report(bench: Workbench, voice_file: Path) -> None:
    session = sessions.create(bench, "One")
    waiting = imports.stage_file(bench, session, voice_file)
    assert jobs.cancel(bench, waiting.id).state == "cancelled"
    imports.run_import(bench, waiting.id)
    running = imports.stage_file(bench, session, voice_file)
    jobs.begin(bench, running.id)
    jobs.cancel(bench, running.id)
    imports.run_import(bench, running.id)
    assert jobs.get(bench, running.id).state == "cancelled"
    assert sessions.state(bench, session).tracks == []
    assert files_below(bench.vault.incoming) == files_below(bench.vault.root) == []


def test_a_job_at_work_is_not_taken_off_the_list(bench: Workbench, voice_file: Path) -> None:
    job = imports.stage_file(bench, sessions.create(bench, "One"), voice_file)
    with pytest.raises(Refused, match="still running"):
        jobs.dismiss(bench, job.id)


def test_a_job_run_twice_makes_one_track(bench: Workbench, voice_file: Path) -> None:
    session = sessions.create(bench, "One")
    job = imports.stage_file(bench, session, voice_file)
    run_job(bench, job.id)
    run_job(bench, job.id)
    assert len(sessions.state(bench, session).tracks) == 1


def test_the_queue_is_filled_again_at_start(bench: Workbench, voice_file: Path, settings: Settings) -> None:
    """The program was killed with one import waiting and one running: both are done at the next start."""
    session = sessions.create(bench, "One")
    for _ in range(2):
        job = imports.stage_file(bench, session, voice_file)
    jobs.begin(bench, job.id)
    queue = JobQueue(settings, immediate=True)
    assert mend(bench) == []
    assert queue.refill(bench) == 2
    assert len(sessions.state(bench, session).tracks) == 2
    assert queue.refill(bench) == 0


def test_an_import_killed_between_vault_and_database_is_taken_up_again(
    bench: Workbench, voice_file: Path, settings: Settings, monkeypatch: pytest.MonkeyPatch
) -> None:
    session = sessions.create(bench, "One")
    job = imports.stage_file(bench, session, voice_file)
    with monkeypatch.context() as patch:
        patch.setattr(imports, "_add_track", lambda *_: (_ for _ in ()).throw(KeyboardInterrupt))
        with pytest.raises(KeyboardInterrupt):
            imports.run_import(bench, job.id)
    mend(bench)
    JobQueue(settings, immediate=True).refill(bench)
    assert len(sessions.state(bench, session).tracks) == 1
    assert files_below(bench.vault.incoming) == []
    assert len(files_below(bench.vault.root)) == FILES


def test_mending_clears_only_what_the_program_left_of_its_own(bench: Workbench, track: str) -> None:
    whole = files_below(bench.vault.root)
    (bench.vault.incoming / "orphan.receiving").write_bytes(b"half an upload")
    (bench.vault.renders / ".job.wav.123.part").write_bytes(b"half a render")
    (bench.vault.root / "part-x").mkdir()
    stray = bench.vault.folder("ab" + "0" * 62)
    stray.mkdir(parents=True)
    (stray / "source.wav").write_bytes(b"stray")
    said = mend(bench)
    assert len(said) == 3
    assert "1 recording belongs to no session" in said[-1]
    assert files_below(bench.vault.incoming) == files_below(bench.vault.renders) == []
    assert files_below(bench.vault.root) == sorted([*whole, f"ab/{stray.name}/source.wav"])
    assert mend(bench) == said[-1:]


def test_a_lost_grid_is_measured_again_and_a_lost_sound_is_said(bench: Workbench, track: str) -> None:
    with bench.database.reading() as db:
        recording = db.query(Recording).one()
    folder = bench.vault.folder(recording.hash)
    before = sound.before_after(bench, track)
    (folder / "grid.npy").unlink()
    mend(bench)
    assert sound.before_after(bench, track) == before
    bench.vault.source(recording).unlink()
    assert mend(bench) == ["A recording has lost its file; its track says so."]
    assert state_of(bench, track).tracks[0].timeline.missing
    with pytest.raises(NotFound, match="missing"):
        sound.before_after(bench, track)


def test_bringing_a_lost_recording_in_again_mends_its_track(bench: Workbench, track: str, voice_file: Path) -> None:
    with bench.database.reading() as db:
        recording = db.query(Recording).one()
    bench.vault.take_out(recording.hash)
    mend(bench)
    session = state_of(bench, track).id
    bring_in(bench, session, voice_file)
    assert not state_of(bench, track).tracks[0].timeline.missing
    assert sound.before_after(bench, track).before.count == 4


def test_what_was_measured_by_an_older_rule_is_measured_again_once(bench: Workbench, track: str) -> None:
    before = [(clip.before, clip.room_tone) for clip in state_of(bench, track).clips]
    with bench.database.writing() as db:
        recording = db.query(Recording).one()
        recording.measured, recording.shows_esses = 0, True
        for clip in db.query(Clip):
            clip.loudness = None if clip.loudness is None else clip.loudness + 2.0
            clip.room_tone += 9.0
        room, recording.room_tone = recording.room_tone, -20.0
    assert mend(bench) == ["The level of 4 phrases, and the room around, was measured again, as it is measured now."]
    state = state_of(bench, track)
    assert [(clip.before, clip.room_tone) for clip in state.clips] == before
    assert state.tracks[0].timeline.room_tone == room
    assert not state.tracks[0].shows_esses
    assert mend(bench) == []


def test_deleting_a_session_deletes_what_nothing_else_uses(bench: Workbench, voice_file: Path, tmp_path: Path) -> None:
    one, two = sessions.create(bench, "One"), sessions.create(bench, "Two")
    other = write_sound(tmp_path / "other.wav", uneven_voice((-20, -30)))
    bring_in(bench, one, voice_file)
    bring_in(bench, one, other)
    kept = bring_in(bench, two, voice_file)
    sessions.remove(bench, one)
    assert len(files_below(bench.vault.root)) == FILES
    assert sound.before_after(bench, kept).before.count == 4
    # what only an undo could bring back is kept for it
    state = sessions.state(bench, two)
    sessions.undo(bench, two, state.revision)
    sessions.remove(bench, sessions.create(bench, "Three"))
    assert len(files_below(bench.vault.root)) == FILES
    sessions.remove(bench, two)
    assert files_below(bench.vault.root) == []


def test_a_render_job_ends_in_a_file_that_can_be_fetched(bench: Workbench, track: str) -> None:
    job = renders.request(bench, track, "flac", 24, False)
    with pytest.raises(NotFound):
        renders.rendered_file(bench, job.id)
    run_job(bench, job.id)
    path, name = renders.rendered_file(bench, job.id)
    assert re.fullmatch(r"Uneven - uneven voice levelled \d{4}-\d\d-\d\d \d\d\.\d\d\.flac", name)
    # one more of the same minute is called otherwise
    assert renders.request(bench, track, "flac", 24, False).name != name
    assert path.stat().st_size > 1000
    jobs.dismiss(bench, job.id)
    assert not path.exists()
    with pytest.raises(Refused, match="FLAC"):
        renders.request(bench, track, "flac", 32, False)


def test_a_stopped_render_leaves_nothing(bench: Workbench, track: str) -> None:
    job = renders.request(bench, track, "wav", 24, False)
    jobs.begin(bench, job.id)
    jobs.cancel(bench, job.id)
    run_job(bench, job.id)
    assert jobs.get(bench, job.id).state == "cancelled"
    assert files_below(bench.vault.renders) == []


def test_one_program_at_a_time_works_on_a_data_folder(tmp_path: Path) -> None:
    lock = DataLock(tmp_path)
    with pytest.raises(Refused, match="Another Nivelus"):
        DataLock(tmp_path, patience=0.2)
    lock.release()
    DataLock(tmp_path, patience=0.2).release()


def test_the_migrations_make_the_tables_that_the_models_describe(bench: Workbench) -> None:
    from alembic.autogenerate import compare_metadata
    from alembic.migration import MigrationContext
    from sqlmodel import SQLModel

    with bench.database.engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), SQLModel.metadata) == []
