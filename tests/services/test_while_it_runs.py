"""What vanishes or is held while the program runs: told for what it is, and nothing else comes to harm."""

from __future__ import annotations

import shutil
import sqlite3
import struct
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import numpy as np
import pytest

from nivelus.core.errors import Busy, Cancelled, NivelusError, NotFound, Refused
from nivelus.core.sound import lengths
from nivelus.core.stopping import until
from nivelus.jobs.queue import JobQueue, queue_file
from nivelus.services.clips import clips
from nivelus.services.files import imports
from nivelus.services.lanes import drawing
from nivelus.services.sessions import cards, jobs, sessions
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.services.upkeep import checking
from nivelus.services.upkeep.mending import mend
from nivelus.settings import Settings
from nivelus.store import backups
from nivelus.store.database import patience
from nivelus.store.lock import DataLock
from tests.conftest import bring_in, uneven_voice, write_sound
from tests.helpers.edits import content, state_of
from tests.services.test_imports_and_mending import files_below


def folder_of(bench: Workbench, track: str) -> Path:
    (source,) = bench.vault.root.glob("??/*/source.*")
    return source.parent


def test_a_recording_whose_folder_vanishes_is_missing_and_comes_back(bench: Workbench, track: str) -> None:
    before = content(state_of(bench, track))
    other = sessions.create(bench, "Other")
    folder = folder_of(bench, track)
    away = folder.with_name("away")
    folder.rename(away)
    # the list and other sessions are as they were, and the session says what is missing
    assert [card.broken for card in cards.list_cards(bench)] == ["", ""]
    assert sessions.state(bench, other).tracks == []
    state = state_of(bench, track)
    assert state.tracks[0].timeline.missing
    for ask in (sound.before_after, sound.meter, sound.gain_points):
        with pytest.raises(NotFound, match="missing"):
            ask(bench, track)
    # what needs no sound still works
    state = clips.set_label(bench, track, state.revision, state.clips[0].id, "Hello")
    sessions.undo(bench, state.id, state.revision)
    away.rename(folder)
    assert content(state_of(bench, track)) == before
    sound.before_after(bench, track)


@contextmanager
def held(path: Path) -> Iterator[None]:
    """Another program holds a database."""
    with closing(sqlite3.connect(path, isolation_level=None)) as other:
        other.execute("BEGIN EXCLUSIVE")
        yield
        other.execute("ROLLBACK")


def test_a_database_that_is_held_is_told_of_in_time_and_nothing_is_changed(bench: Workbench, track: str) -> None:
    before = state_of(bench, track)
    with held(bench.database.path):
        began = time.monotonic()
        with patience(0.4), pytest.raises(Busy, match=r"Another program holds the database\. Nothing was changed"):
            clips.set_gain(bench, track, before.revision, [before.clips[0].id], by=2.0)
        assert 0.3 < time.monotonic() - began < 5
        assert state_of(bench, track) == before
    assert clips.set_gain(bench, track, before.revision, [before.clips[0].id], by=2.0).revision == before.revision + 1


def test_a_queue_that_is_held_keeps_an_upload_waiting_and_says_nothing_wrong(
    bench: Workbench, settings: Settings, voice_file: Path
) -> None:
    queue = JobQueue(settings)
    session = sessions.create(bench, "Held")
    job = imports.stage_file(bench, session, voice_file)
    queue.huey.storage._timeout = 0.2
    with held(queue_file(settings.data)):
        queue.put(job.id)
    assert queue.is_empty
    # the watch finds it
    assert jobs.forgotten(bench, 0.0) == [job.id]


def stamped(path: Path, reference: int) -> Path:
    """A WAV file with a broadcast chunk (EBU Tech 3285) whose time reference is this."""
    data = write_sound(path, uneven_voice((-20.0,)), subtype="PCM_16").read_bytes()
    bext = bytes(338) + struct.pack("<QH", reference, 1) + bytes(254)
    chunk = b"bext" + struct.pack("<I", len(bext)) + bext
    body = data[12:36] + chunk + data[36:]
    path.write_bytes(b"RIFF" + struct.pack("<I", 4 + len(body)) + b"WAVE" + body)
    return path


@pytest.mark.parametrize("reference", [(1 << 63) - 1, 1 << 63, (1 << 64) - 1])
def test_a_stamp_that_no_clock_made_is_none(bench: Workbench, tmp_path: Path, reference: int) -> None:
    session = sessions.create(bench, "Stamped")
    track = bring_in(bench, session, stamped(tmp_path / "stamped.wav", reference))
    assert sessions.state(bench, session).tracks[0].id == track


def test_whatever_an_import_raises_nothing_stays(bench: Workbench, voice_file: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def fails(*_: object) -> None:
        raise OverflowError("Python int too large to convert to SQLite INTEGER")

    monkeypatch.setattr(imports, "_add_track", fails)
    session = sessions.create(bench, "Fails")
    job = imports.stage_file(bench, session, voice_file)
    imports.run_import(bench, job.id)
    assert jobs.view_job(jobs.get(bench, job.id)).state == "failed"
    assert files_below(bench.vault.root) == files_below(bench.vault.incoming) == []


def garbage(path: Path, size: int) -> Path:
    """An MP3 file that begins well, and goes on in pieces of frames with what is none between them."""
    write_sound(path, uneven_voice((-20.0,)), subtype="MPEG_LAYER_III", format="MP3")
    head = path.read_bytes()
    piece = head[:400] + b"\xff" * 3
    path.write_bytes(head + piece * (size // len(piece)))
    return path


def test_counting_the_frames_of_garbage_ends_when_nobody_waits(tmp_path: Path) -> None:
    path = garbage(tmp_path / "garbage.mp3", 60 << 20)
    gone = threading.Event()
    said: list[NivelusError] = []

    def count() -> None:
        try:
            with until(gone.is_set):
                lengths.true_length(path)
        except Cancelled as error:
            said.append(error)

    thread = threading.Thread(target=count)
    thread.start()
    time.sleep(0.2)
    gone.set()
    began = time.monotonic()
    thread.join()
    assert said
    assert time.monotonic() - began < 2


def test_a_stopped_import_frees_its_worker(bench: Workbench, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(jobs, "BEAT_SECONDS", 0.05)
    path = garbage(tmp_path / "garbage.mp3", 100 << 20)
    session = sessions.create(bench, "Garbage")
    job = imports.stage_file(bench, session, path)
    ended: list[float] = []

    def work(run: Callable[[Workbench, str], None]) -> None:
        run(bench, job.id)
        ended.append(time.monotonic())

    thread = threading.Thread(target=work, args=(imports.run_import,))
    thread.start()
    time.sleep(0.5)
    assert jobs.view_job(jobs.get(bench, job.id)).state == "running"
    stopped = time.monotonic()
    jobs.cancel(bench, job.id)
    thread.join()
    assert ended[0] - stopped < 3
    assert jobs.view_job(jobs.get(bench, job.id)).state == "cancelled"
    assert files_below(bench.vault.root) == files_below(bench.vault.incoming) == []


def test_a_second_program_is_kept_out_whatever_is_deleted_in_the_folder(settings: Settings) -> None:
    lock = DataLock(settings.data)
    for path in list(settings.data.iterdir()):
        path.unlink()
    with pytest.raises(Refused, match="Another Nivelus is working"):
        DataLock(settings.data, patience=0.2)
    lock.release()
    DataLock(settings.data, patience=0.2).release()


def test_copies_that_are_dated_ahead_do_not_push_out_that_of_today(bench: Workbench, settings: Settings) -> None:
    first = backups.back_up(settings.data)
    for day in range(10, 17):
        shutil.copyfile(first, first.with_name(f"nivelus-209901{day}T120000.sqlite"))
    made = backups.back_up(settings.data, "-again")
    assert made.exists()
    assert "209901" not in backups.backups(settings.data)[-1].name
    assert len(backups.backups(settings.data)) == backups.KEPT


@pytest.mark.parametrize("name", ["grid.npy", "wave.npy"])
def test_a_grid_full_of_nan_is_found_and_measured_again(bench: Workbench, track: str, settings: Settings, name: str) -> None:
    path = folder_of(bench, track) / name
    good = np.load(path)
    np.save(path, np.full_like(good, np.nan))
    assert any("is damaged" in finding.sentence for finding in checking.check(settings))
    assert mend(bench) == ["What was measured of a recording was damaged; it was measured again."]
    np.testing.assert_array_equal(np.load(path), good)
    # a single one is found by who looks at all
    good[123, 0] = np.nan
    np.save(path, good)
    assert any("is damaged" in finding.sentence for finding in checking.check(settings))


def test_nothing_is_pasted_from_another_session(bench: Workbench, track: str, voice_file: Path) -> None:
    other = bring_in(bench, sessions.create(bench, "Other"), voice_file)
    drawing.lift_span(bench, other, state_of(bench, other).revision, "ride", 1.0, 2.0, 3.0)
    state = state_of(bench, track)
    with pytest.raises(Refused, match="within the session"):
        drawing.paste_range(bench, track, state.revision, "ride", 0.5, 0.9, 2.1, (other, "ride"))
    assert state_of(bench, track) == state
