"""Jobs that lose their worker, are stopped while it works, or are deleted under it: each ends as it should, and once."""

from __future__ import annotations

import time
from pathlib import Path

import pytest

from nivelus.core.errors import Cancelled, NivelusError
from nivelus.jobs.queue import JobQueue, run_job
from nivelus.jobs.watch import Watch
from nivelus.services.files import imports, renders
from nivelus.services.sessions import cards, jobs, sessions
from nivelus.services.track.workbench import Workbench
from nivelus.services.upkeep.mending import mend
from nivelus.settings import Settings
from nivelus.store import job_rows
from tests.conftest import bring_in


@pytest.fixture
def waiting(bench: Workbench, voice_file: Path) -> str:
    """An import that waits, in a session of its own."""
    return imports.stage_file(bench, sessions.create(bench, "One"), voice_file).id


def state_of(bench: Workbench, job: str) -> str:
    return jobs.get(bench, job).state


def test_a_silent_job_is_begun_anew_once_and_told_of_after_that(
    bench: Workbench, waiting: str, settings: Settings, monkeypatch: pytest.MonkeyPatch
) -> None:
    queue = JobQueue(settings, immediate=True)
    put: list[str] = []
    monkeypatch.setattr(queue, "put", put.append)
    watch = Watch(bench, queue, silent=0.05)
    watch.stop()
    for again in (True, False):
        assert jobs.begin(bench, waiting) is not None
        watch.look()
        time.sleep(0.1)
        watch.look()
        assert (waiting in put) is True
        assert state_of(bench, waiting) == ("waiting" if again else "failed")
    assert put == [waiting]
    assert "broke off twice" in jobs.get(bench, waiting).message
    assert not (bench.vault.incoming / waiting).exists()
    jobs.dismiss(bench, waiting)


def test_a_job_that_beats_is_left_alone(bench: Workbench, waiting: str, settings: Settings) -> None:
    watch = Watch(bench, JobQueue(settings, immediate=True), silent=0.05)
    watch.stop()
    job = jobs.begin(bench, waiting)
    assert job is not None
    for share in (0.1, 0.2, 0.3):
        watch.look()
        time.sleep(0.06)
        with bench.database.writing() as db:
            assert job_rows.put_of_run(db, job, beat=round(share * 10))
    watch.look()
    assert state_of(bench, waiting) == "running"


def test_a_run_raises_its_beat(bench: Workbench, waiting: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(jobs, "BEAT_SECONDS", 0.02)
    beats: list[int] = []

    def task(job: object) -> dict[str, str]:
        for _ in range(100):
            time.sleep(0.02)
            beats.append(jobs.get(bench, waiting).beat)
            if beats[-1] > 2:
                break
        return {}

    jobs.run(bench, waiting, task, "It broke.")
    assert beats[-1] > 2
    assert state_of(bench, waiting) == "done"


def test_who_has_lost_a_job_leaves_without_a_trace(bench: Workbench, waiting: str) -> None:
    """It stood still, another run took it, and then it went on."""
    first = jobs.begin(bench, waiting)
    assert first is not None
    assert jobs.take_back(bench, waiting, first.run, first.beat)
    with pytest.raises(Cancelled):
        jobs.reporter(bench, first, "measuring", 0, 100)(0.5)
    with pytest.raises(Cancelled):
        imports._import(bench, first)
    jobs.finish(bench, first, "failed", "too late")
    assert state_of(bench, waiting) == "waiting"
    run_job(bench, waiting)
    assert state_of(bench, waiting) == "done"
    assert len(cards.list_cards(bench)[0].tracks) == 1


def test_a_stop_takes_effect_at_once_whatever_the_worker_does(bench: Workbench, waiting: str) -> None:
    job = jobs.begin(bench, waiting)
    assert job is not None
    assert jobs.cancel(bench, waiting).state == "cancelled"
    assert not (bench.vault.incoming / waiting).exists()
    with pytest.raises(Cancelled):
        jobs.reporter(bench, job, "measuring", 0, 100)(0.5)
    jobs.dismiss(bench, waiting)
    jobs.finish(bench, job, "done", "")


def test_a_job_that_nobody_foresaw_to_fail_is_told_and_noted(bench: Workbench, waiting: str) -> None:
    jobs.run(bench, waiting, lambda job: {"x": str(1 / 0)}, "It broke.")
    assert state_of(bench, waiting) == "failed"
    assert jobs.get(bench, waiting).message.startswith("It broke. (Noted as ")


def test_deleting_a_session_takes_its_uploads_and_renders_along(bench: Workbench, track: str, voice_file: Path) -> None:
    session = cards.list_cards(bench)[0].id
    render = renders.request(bench, track, "wav", 24, False)
    run_job(bench, render.id)
    upload = imports.stage_file(bench, session, voice_file)
    begun = jobs.begin(bench, upload.id)
    assert begun is not None
    assert any(path.exists() for path in bench.vault.job_files(render.id))
    sessions.remove(bench, session)
    assert list(bench.vault.incoming.iterdir()) == list(bench.vault.renders.iterdir()) == []
    assert bench.vault.hashes() == set()
    with pytest.raises(NivelusError):
        imports._import(bench, begun)


@pytest.mark.parametrize("what", ["stop", "delete"])
def test_an_import_that_is_taken_away_at_its_very_end_leaves_nothing(
    bench: Workbench, waiting: str, what: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It is measured and in the vault, and then its job is stopped or its session deleted."""
    add = bench.vault.add

    def late(*arguments: object) -> bool:
        added = add(*arguments)  # type: ignore[arg-type]
        if what == "stop":
            jobs.cancel(bench, waiting)
        else:
            sessions.remove(bench, cards.list_cards(bench)[0].id)
        return added

    monkeypatch.setattr(bench.vault, "add", late)
    run_job(bench, waiting)
    assert bench.vault.hashes() == set()
    assert list(bench.vault.incoming.iterdir()) == []


def test_the_database_becomes_smaller_when_much_of_it_is_unused(bench: Workbench) -> None:
    session = sessions.create(bench, "Large")
    with bench.database.writing() as db:
        for _ in range(60):
            job = jobs.new_job(session, "render", "large")
            job.payload = {"text": "x" * 200_000}
            db.add(job)
    with bench.database.engine.connect() as connection:
        connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
    large = bench.database.path.stat().st_size
    assert not bench.database.shrink()
    sessions.remove(bench, session)
    assert bench.database.shrink()
    assert bench.database.path.stat().st_size < large / 10
    assert not bench.database.shrink()


def test_a_recording_that_was_deleted_and_brought_in_again_stays(bench: Workbench, voice_file: Path) -> None:
    """Between the two there is a tombstone, which must not outlive the recording's return."""
    first = sessions.create(bench, "First")
    bring_in(bench, first, voice_file)
    sessions.remove(bench, first)
    assert bench.vault.hashes() == set()
    bring_in(bench, sessions.create(bench, "Second"), voice_file)
    assert mend(bench) == []
    assert len(bench.vault.hashes()) == 1
