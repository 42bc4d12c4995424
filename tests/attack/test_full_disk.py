"""A disk without room: one sentence, at once, and nothing is lost or half there. The largest file is limited instead of the
disk (RLIMIT_FSIZE), which every write meets as "file too large", and a small file system where one can be mounted."""

from __future__ import annotations

import contextlib
import json
import os
import resource
import subprocess
import sys
import time
import urllib.error
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tests.conftest import hum, uneven_voice, write_sound
from tests.helpers.program import Program

WORDS = "The disk is full"


def limited(size: int) -> Any:
    """Let no file of a process grow beyond so many bytes."""
    return lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (size, size))


def refused(program: Program, path: str, body: Any) -> tuple[int, str, float]:
    begun = time.monotonic()
    with pytest.raises(urllib.error.HTTPError) as caught:
        program.post(path, body)
    answer = json.loads(caught.value.read())
    return caught.value.code, answer["detail"], time.monotonic() - begun


def edit_until_refused(program: Program, track: str, edit: dict[str, Any]) -> tuple[int, str]:
    """Edit again and again, for the write-ahead log has some room of its own; how it is refused in the end."""
    for _ in range(300):
        try:
            edit["revision"] = program.post(f"/api/tracks/{track}/gain", edit)["revision"]
        except urllib.error.HTTPError as error:
            return error.code, json.loads(error.read())["detail"]
    return 0, "it was never refused"


@pytest.fixture
def voice(tmp_path: Path) -> Path:
    return write_sound(tmp_path / "voice.wav", uneven_voice())


@pytest.fixture
def cramped(tmp_path: Path, voice: Path) -> Iterator[Program]:
    """A program with a session in it that may write no file beyond 600 kB from its second start on."""
    program = Program(tmp_path / "data", "--no-demo")
    program.brought_in(voice, "Kept")
    program.stop()
    program.before = limited(600_000)
    program.start()
    yield program
    program.stop()


def test_an_upload_that_does_not_fit_says_so_at_once_and_leaves_nothing(cramped: Program, tmp_path: Path) -> None:
    session = cramped.get("/api/sessions")["items"][0]["id"]
    large = write_sound(tmp_path / "large.wav", hum(-20, 20.0))
    status, said, seconds = refused(cramped, f"/api/sessions/{session}/uploads?name=large.wav", large.read_bytes())
    assert status == 507
    assert WORDS in said
    assert seconds < 2.0
    assert list((cramped.data / "incoming").iterdir()) == []


def test_an_import_that_does_not_fit_fails_whole(cramped: Program, tmp_path: Path) -> None:
    """The upload fits, its waveform does not."""
    session = cramped.get("/api/sessions")["items"][0]["id"]
    tight = write_sound(tmp_path / "tight.flac", 0.01 * hum(-60, 100.0, 16_000), 16_000, subtype="PCM_16")
    assert tight.stat().st_size < 600_000
    cramped.post(f"/api/sessions/{session}/uploads?name=tight.flac", tight.read_bytes())
    for _ in range(300):
        (job,) = [job for job in cramped.get(f"/api/sessions/{session}/jobs")["items"] if job["name"] == "tight.flac"]
        if job["state"] == "failed":
            break
        time.sleep(0.1)
    assert WORDS in job["message"]
    assert list((cramped.data / "incoming").iterdir()) == []
    assert not list((cramped.data / "vault").glob("part-*"))
    assert len(list((cramped.data / "vault").glob("??/*/source.*"))) == 1


def test_an_edit_and_a_render_that_do_not_fit_change_nothing(tmp_path: Path, voice: Path) -> None:
    program = Program(tmp_path / "data", "--no-demo")
    state = program.brought_in(voice, "Kept")
    session, track, clip = state["id"], state["tracks"][0]["id"], state["clips"][0]["id"]
    program.stop()
    program.before = limited(150_000)
    program.start()
    program.post(f"/api/tracks/{track}/render", {})
    edit = {"revision": state["revision"], "clips": [clip], "by": 0.1}
    status, said = edit_until_refused(program, track, edit)
    assert (status, WORDS in said) == (507, True)
    before = program.get(f"/api/sessions/{session}")
    assert before["revision"] == edit["revision"]
    status, said, seconds = refused(program, f"/api/tracks/{track}/gain", edit)
    assert (status, WORDS in said) == (507, True)
    assert seconds < 2.0
    assert program.get(f"/api/sessions/{session}")["clips"] == before["clips"]
    assert not [path for path in (program.data / "renders").iterdir() if not path.name.startswith(".")]
    program.stop()
    program.before = None
    program.start()
    assert program.get(f"/api/sessions/{session}")["clips"] == before["clips"]
    # with room again it is rendered after all, or it was told before that it could not be
    for _ in range(100):
        (job,) = [j for j in program.get(f"/api/sessions/{session}/jobs")["items"] if j["kind"] == "render"]
        if job["state"] in ("done", "failed"):
            break
        time.sleep(0.1)
    assert job["state"] == "done" or WORDS in job["message"]
    assert "Traceback" not in program.said()
    program.stop()


def test_the_command_line_says_so_and_leaves_nothing(tmp_path: Path, voice: Path) -> None:
    for form in ("wav", "flac"):
        command = [sys.executable, "-m", "nivelus.cli", "level", str(voice), "-o", str(tmp_path / "out"), "--format", form]
        done = subprocess.run(command, capture_output=True, text=True, preexec_fn=limited(100_000), check=False)
        assert done.returncode == 1
        assert WORDS.lower() in done.stderr.lower()
        assert "Traceback" not in done.stderr
        assert list((tmp_path / "out").iterdir()) == []


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A file system of 16 MB of its own, where that is allowed."""
    folder = tmp_path / "small"
    folder.mkdir()
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=16m", "nivelus-test", str(folder)], capture_output=True, check=False
    )
    if mounted.returncode:
        pytest.skip("no file system can be mounted here; the limit of file sizes is tested above")
    yield folder
    subprocess.run(["umount", "-l", str(folder)], check=False)


def test_a_small_disk_runs_full_and_becomes_free_again(small_disk: Path, tmp_path: Path) -> None:
    program = Program(small_disk / "data", "--no-demo")
    state = program.brought_in(write_sound(tmp_path / "voice.wav", uneven_voice()), "Kept")
    session, track, clip = state["id"], state["tracks"][0]["id"], state["clips"][0]["id"]
    other = program.brought_in(write_sound(tmp_path / "other.wav", uneven_voice((-20.0,))), "Other")["id"]
    # what comes in and leaves less than its own size is warned of
    near = write_sound(tmp_path / "near.wav", np.concatenate([uneven_voice(), hum(-20, 40.0)]))
    free = os.statvfs(small_disk).f_bavail * os.statvfs(small_disk).f_frsize
    assert near.stat().st_size < free < 2 * near.stat().st_size + 4_000_000
    job = program.post(f"/api/sessions/{session}/uploads?name=near.wav", near.read_bytes())
    assert "nearly full" in job["message"] or free > 2 * near.stat().st_size
    program.post(f"/api/jobs/{job['id']}/cancel", {})
    # what is larger than the disk is refused by its length alone
    status, said, _ = refused(program, f"/api/sessions/{session}/uploads?name=huge.wav", bytes(20_000_000))
    assert (status, "does not fit on the disk" in said) == (507, True)
    ballast = small_disk / "ballast"
    with ballast.open("wb", buffering=0) as handle, contextlib.suppress(OSError):
        while handle.write(bytes(4096)) == 4096:
            pass
    revision = program.get(f"/api/sessions/{session}")["revision"]
    edit = {"revision": revision, "clips": [clip], "by": 1.0}
    status, said = edit_until_refused(program, track, edit)
    assert (status, WORDS in said) == (507, True)
    revision = edit["revision"]
    before = program.get(f"/api/sessions/{session}")
    assert before["revision"] == revision
    begun = time.monotonic()
    refused(program, f"/api/tracks/{track}/gain", edit)
    assert time.monotonic() - begun < 2.0
    # what makes room can be done all the same, also with nothing left
    assert (program.data / "spare").stat().st_size > 0
    program.delete(f"/api/sessions/{other}")
    assert [card["name"] for card in program.get("/api/sessions")["items"]] == ["Kept"]
    ballast.unlink()
    assert program.post(f"/api/tracks/{track}/gain", edit)["revision"] == revision + 1
    program.stop()
