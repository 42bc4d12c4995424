"""Damaged, lost and foreign files in the data folder: the program starts, says what it did, and no recording is lost."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import numpy as np
import pytest

from nivelus.jobs.queue import run_job
from nivelus.services.clips import moves
from nivelus.services.files import imports
from nivelus.services.sessions import cards, sessions
from nivelus.services.sessions import recordings as keeping
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.services.upkeep.mending import mend
from nivelus.settings import Settings
from nivelus.store import backups
from nivelus.store.tables import Recording
from nivelus.web import serve
from tests.conftest import bring_in, uneven_voice, write_sound
from tests.helpers.edits import content, state_of
from tests.helpers.program import Program


def sounds(data: Path) -> set[str]:
    return {path.parent.name for path in (data / "vault").glob("??/*/source.*")}


class Folder:
    """A data folder with one recording, that nobody works on; ``start`` opens it as the program does."""

    def __init__(self, settings: Settings) -> None:
        self.settings, self.data = settings, settings.data
        self.bench: Workbench | None = None

    def start(self) -> list[str]:
        """Secure, migrate and mend; what is said."""
        said: list[str] = []
        self.bench = serve._open(self.settings, said.append)
        return said

    def stop(self) -> None:
        assert self.bench is not None
        self.bench.close()

    def names(self) -> list[str]:
        assert self.bench is not None
        return [card.name for card in cards.list_cards(self.bench)]


@pytest.fixture
def stopped(settings: Settings, voice_file: Path) -> Folder:
    """A folder whose database has been copied today, with the recording in it."""
    folder = Folder(settings)
    folder.start()
    assert folder.bench is not None
    bring_in(folder.bench, sessions.create(folder.bench, "Kept"), voice_file)
    folder.stop()
    backups.back_up(folder.data)
    return folder


LOST: dict[str, Callable[[Path], object]] = {
    "deleted": lambda path: path.unlink(),
    "garbage": lambda path: path.write_bytes(np.random.default_rng(1).bytes(50_000)),
    "cut short": lambda path: path.write_bytes(path.read_bytes()[: path.stat().st_size // 2]),
    "emptied": lambda path: path.write_bytes(b""),
    "a page overwritten": lambda path: path.write_bytes(path.read_bytes()[:8192] + b"\xa5" * 8192 + path.read_bytes()[16384:]),
}


@pytest.mark.parametrize("how", LOST)
@pytest.mark.parametrize("copies", [True, False], ids=["with a copy", "without"])
def test_no_recording_goes_when_the_database_does(stopped: Folder, how: str, copies: bool) -> None:
    held = sounds(stopped.data)
    assert len(held) == 1
    database = stopped.data / "nivelus.sqlite"
    with closing(sqlite3.connect(database)) as db:
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    LOST[how](database)
    if not copies:
        for copy in backups.backups(stopped.data):
            copy.unlink()
    said = " ".join(stopped.start())
    bench = stopped.bench
    assert bench is not None
    assert sounds(stopped.data) == held
    loose = keeping.loose(bench).items
    if copies and how != "deleted":
        assert "has taken its place" in said
        assert list(stopped.data.glob("damaged-*.sqlite"))
        assert stopped.names() == ["Kept"]
        assert loose == []
    else:
        assert stopped.names() == []
        assert [item.name for item in loose] == ["uneven voice.wav"]
        assert "1 recording belongs to no session" in said
        assert ("copy of the old one" in said) == (copies and how == "deleted")
        # what is loose becomes a session again
        (job,) = imports.bring_back(bench, [loose[0].hash])
        assert keeping.loose(bench).items == []
        run_job(bench, job.id)
        assert [(card.name, card.count) for card in cards.list_cards(bench)] == [("uneven voice", 4)]
        assert keeping.loose(bench).items == []
        assert sounds(stopped.data) == held
    stopped.stop()


def test_the_program_itself_starts_on_a_damaged_database_and_queue(stopped: Folder, tmp_path: Path) -> None:
    for name in ("nivelus.sqlite", "queue.sqlite"):
        for path in stopped.data.glob(f"{name}*"):
            path.unlink()
        (stopped.data / name).write_bytes(b"nothing that was ever a database" * 100)
    program = Program(stopped.data, "--no-demo")
    assert "has taken its place" in program.said()
    assert "Traceback" not in program.said()
    assert [card["name"] for card in program.get("/api/sessions")["items"]] == ["Kept"]
    assert len(program.brought_in(write_sound(tmp_path / "b.wav", uneven_voice((-20.0,))), "Next")["tracks"]) == 1
    program.stop()


def test_an_older_database_finds_what_it_knows_and_the_rest_is_loose(stopped: Folder, tmp_path: Path) -> None:
    old = backups.backups(stopped.data)[-1].read_bytes()
    stopped.start()
    assert stopped.bench is not None
    later = write_sound(tmp_path / "later.wav", uneven_voice((-20.0, -28.0)))
    bring_in(stopped.bench, sessions.create(stopped.bench, "Later"), later)
    stopped.stop()
    for path in stopped.data.glob("nivelus.sqlite*"):
        path.unlink()
    (stopped.data / "nivelus.sqlite").write_bytes(old)
    stopped.start()
    assert stopped.names() == ["Kept"]
    assert len(sounds(stopped.data)) == 2
    (item,) = keeping.loose(stopped.bench).items
    assert (item.name, item.length) == ("later.wav", pytest.approx(4.1, abs=0.02))
    # and goes only when it is asked to
    assert keeping.delete_loose(stopped.bench, [item.hash]).items == []
    assert len(sounds(stopped.data)) == 1
    stopped.stop()
    stopped.start()
    assert len(sounds(stopped.data)) == 1
    stopped.stop()


BROKEN: dict[str, Callable[[Path], object]] = {
    "empty": lambda path: path.write_bytes(b""),
    "cut short": lambda path: path.write_bytes(path.read_bytes()[:500]),
    "garbage": lambda path: path.write_bytes(np.random.default_rng(2).bytes(4000)),
    "another shape": lambda path: np.save(path, np.zeros((3, 9), np.float32)),
    "another kind": lambda path: np.save(path, np.zeros((4, 2), np.complex64)),
    "objects": lambda path: np.save(path, np.array([{"a": 1}], object), allow_pickle=True),
    "gone": lambda path: path.unlink(),
}


@pytest.mark.parametrize("how", BROKEN)
@pytest.mark.parametrize("name", ["grid.npy", "wave.npy"])
def test_what_was_measured_and_is_damaged_is_measured_again(bench: Workbench, track: str, name: str, how: str) -> None:
    before, recording = state_of(bench, track), recording_of(bench)
    tile = sound.wave_tile(bench, track, recording.id, 0, 0)
    figures = sound.before_after(bench, track)
    path = bench.vault.folder(recording.hash) / name
    BROKEN[how](path)
    # at once, in a program that is running
    assert (sound.wave_tile(bench, track, recording.id, 0, 0) == tile).all()
    assert sound.before_after(bench, track) == figures
    assert content(state_of(bench, track)) == content(before)
    # and at start
    BROKEN[how](path)
    mend(bench)
    bench.vault.check_measured(recording)


@pytest.mark.parametrize("how", BROKEN)
def test_what_was_measured_of_a_track_of_moved_clips_is_measured_again_too(bench: Workbench, track: str, how: str) -> None:
    state = state_of(bench, track)
    moves.move(bench, track, state.revision, [[clip.id for clip in state.clips if clip.phrase_start][-1]], 1.5)
    before, figures = state_of(bench, track), sound.before_after(bench, track)
    BROKEN[how](bench.vault.folder(recording_of(bench).hash) / "grid.npy")
    assert sound.before_after(bench, track) == figures
    assert content(state_of(bench, track)) == content(before)


def recording_of(bench: Workbench) -> Recording:
    with bench.database.reading() as db:
        return db.query(Recording).one()


def run(*arguments: object, **environment: str) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "nivelus.cli", *map(str, arguments)]
    done = subprocess.run(command, capture_output=True, text=True, check=False, env=os.environ | environment, timeout=60)
    assert "Traceback" not in done.stderr
    return done


def test_a_newer_database_is_refused_and_left_alone(bench: Workbench, track: str) -> None:
    path = bench.database.path
    with closing(sqlite3.connect(path)) as db:
        db.execute("UPDATE alembic_version SET version_num = '9999'")
        db.commit()
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    bench.close()
    before = path.read_bytes()
    done = run("serve", "--data", path.parent, "--port", 8999)
    assert done.returncode == 1
    assert "newer Nivelus" in done.stderr
    assert path.read_bytes() == before


@pytest.mark.parametrize(
    ("name", "value", "words"),
    [("NIVELUS_PORT", "abc", "1 to 65535"), ("NIVELUS_PORT", "70000", "1 to 65535"), ("NIVELUS_MAX_UPLOAD_MB", "-1", "MB")],
)
def test_a_bad_setting_is_named(tmp_path: Path, name: str, value: str, words: str) -> None:
    done = run("serve", "--data", tmp_path / "data", **{name: value})
    assert done.returncode == 1
    assert f"{name} is “{value}”" in done.stderr
    assert words in done.stderr
    assert not (tmp_path / "data" / "nivelus.sqlite").exists()


def test_copies_are_made_and_the_last_seven_kept(bench: Workbench, track: str) -> None:
    bench.close()
    data = bench.settings.data
    for number in range(12):
        copy = backups.back_up(data, f"-{number:02}")
        assert backups.is_whole(copy)
    assert len(backups.backups(data)) == backups.KEPT
    assert backups.secure(data, {backups.version_of(data / "nivelus.sqlite") or ""}) == []
    assert len(backups.backups(data)) == backups.KEPT


def test_a_database_is_copied_before_it_is_brought_up(bench: Workbench, track: str) -> None:
    from alembic import command

    from nivelus.store import database

    state = state_of(bench, track)
    # what was drafted without a base goes on without one
    sessions.update(bench, state.id, state.revision, {"base_kind": "none"})
    before = state_of(bench, track)
    config = database._alembic()
    config.attributes["engine"] = bench.database.engine
    command.downgrade(config, "0004")
    bench.close()
    again = Workbench(bench.settings)
    (copy,) = backups.backups(bench.settings.data)
    assert backups.version_of(copy) == "0004"
    # what an older version measured is measured again at the start
    mend(again)
    assert content(state_of(again, track)) == content(before)
    again.close()


def test_undo_and_redo_of_an_import_from_before_there_were_marks_keeps_them(bench: Workbench, detailed: str) -> None:
    """The step knows nothing of marks, columns and lanes that came with later versions of the tables."""
    from nivelus.store.steps import pack_again, unpack_step
    from nivelus.store.tables import Change

    with bench.database.writing() as db:
        change = db.query(Change).one()
        rows = [row for row in unpack_step(change.data) if row["table"] != "mark_set"]
        for row in rows:
            for name in ("dip_rules", "range_low", "range_high", "curve"):
                row["after"].pop(name, None)
        change.data = pack_again(rows)
    before = state_of(bench, detailed)
    assert before.marks
    sessions.undo(bench, before.id, before.revision)
    assert sessions.state(bench, before.id).tracks == []
    sessions.redo(bench, before.id, before.revision + 1)
    assert content(state_of(bench, detailed)) == content(before)


def test_check_finds_what_is_wrong_and_repairs_what_can_be(bench: Workbench, track: str, tmp_path: Path) -> None:
    data, recording = bench.settings.data, recording_of(bench)
    bench.close()
    good = run("check", "--data", data)
    assert good.returncode == 0, good.stdout
    assert "Recordings: 1 of 1 are whole." in good.stdout
    folder = bench.vault.folder(recording.hash)
    (folder / "grid.npy").write_bytes(b"x")
    stray = bench.vault.folder("cd" + "1" * 62)
    stray.mkdir(parents=True)
    write_sound(stray / "source.wav", uneven_voice((-20.0,)))
    bad = run("check", "--data", data)
    assert bad.returncode == 1
    assert "grid.npy" in bad.stdout
    assert "belongs to no session" in bad.stdout
    repaired = run("check", "--data", data, "--repair")
    assert "measured again" in repaired.stdout
    assert "Recordings: 1 of 1 are whole." in repaired.stdout
    assert stray.exists()
    # a sound file with another content is set aside, and bringing it in again mends its track
    source = bench.vault.source(recording)
    whole = source.read_bytes()
    source.write_bytes(whole[:-3] + b"abc")
    assert "its content has changed" in run("check", "--data", data).stdout
    assert "set aside" in run("check", "--data", data, "--repair").stdout
    assert not source.exists()
    again = Workbench(Settings(data=data))
    original = tmp_path / "again.wav"
    original.write_bytes(whole)
    assert state_of(again, track).tracks[0].timeline.missing
    bring_in(again, state_of(again, track).id, original)
    assert not state_of(again, track).tracks[0].timeline.missing
    again.close()
