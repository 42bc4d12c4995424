"""Killed at any moment - the program, its worker, the command line: what was accepted is there, what was half done is not."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from tests.conftest import hum, uneven_voice, write_sound
from tests.helpers.program import Program

KILLS = 5


def children(process: int) -> list[int]:
    """The processes below one, the deepest last."""
    out = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                parent = int((entry / "stat").read_text().rsplit(")", 1)[1].split()[1])
            except (OSError, IndexError):
                continue
            if parent == process:
                out += [int(entry.name), *children(int(entry.name))]
    return out


def test_kills_at_random_moments_lose_nothing(tmp_path: Path, times: int) -> None:
    """An edit that was answered is there after the next start, and an import that was begun ends as a whole track."""
    random = np.random.default_rng(5)
    program = Program(tmp_path / "data", "--no-demo")
    voice = write_sound(tmp_path / "voice.wav", uneven_voice())
    edited = program.brought_in(voice, "Edited")
    track, clip = edited["tracks"][0]["id"], edited["clips"][0]["id"]
    long = tmp_path / "long.wav"
    begun, gain = [], 0.0
    for number in range(KILLS * times):
        write_sound(long, np.concatenate([uneven_voice((-20.0 - number % 9,)), hum(-30, 8.0, seed=number)]), subtype="PCM_16")
        begun.append(program.begin_import(long, f"Import {number}"))
        state = program.get(f"/api/sessions/{edited['id']}")
        gain = round(gain + 0.5, 1) if gain < 20 else 0.5
        program.post(f"/api/tracks/{track}/gain", {"revision": state["revision"], "clips": [clip], "to": gain})
        time.sleep(float(random.uniform(0.0, 1.2)))
        program.kill()
        program.start()
        state = program.get(f"/api/sessions/{edited['id']}")
        assert next(c["gain"] for c in state["clips"] if c["id"] == clip) == gain
    for session in begun:
        for _ in range(400):
            if program.get(f"/api/sessions/{session}")["tracks"]:
                break
            time.sleep(0.1)
        assert len(program.get(f"/api/sessions/{session}")["tracks"]) == 1
    assert list((program.data / "incoming").iterdir()) == []
    assert not list((program.data / "vault").glob("part-*"))
    assert program.get("/api/loose")["items"] == []
    print(f"{KILLS * times} kills")
    program.stop()


def test_a_worker_that_is_killed_loses_no_job_and_no_page(tmp_path: Path) -> None:
    program = Program(tmp_path / "data", "--no-demo")
    long = write_sound(tmp_path / "long.wav", np.tile(hum(-20, 10), 60), subtype="PCM_16")
    session = program.begin_import(long)
    for _ in range(200):
        (job,) = program.get(f"/api/sessions/{session}/jobs")["items"]
        if job["state"] == "running" and job["percent"] > 1:
            break
        time.sleep(0.02)
    for process in children(program.process.pid):
        os.kill(process, signal.SIGKILL)
    # the page stays, and a stop takes effect although nobody is at work
    assert program.get("/api/sessions")["items"]
    stopped = program.post(f"/api/jobs/{job['id']}/cancel", {})
    assert stopped["state"] == "cancelled"
    program.delete(f"/api/jobs/{job['id']}")
    assert program.get(f"/api/sessions/{session}/jobs")["items"] == []
    # the next one is taken up by a new worker
    assert len(program.brought_in(write_sound(tmp_path / "b.wav", uneven_voice((-20.0,))), "Next")["tracks"]) == 1
    assert list((program.data / "incoming").iterdir()) == []
    program.stop()


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP, signal.SIGINT])
@pytest.mark.parametrize("form", ["wav", "flac"])
def test_a_signal_leaves_no_part_of_an_output(tmp_path: Path, number: signal.Signals, form: str) -> None:
    source = write_sound(tmp_path / "long.wav", np.tile(uneven_voice(), 120), subtype="PCM_16")
    out = tmp_path / "out"
    command = [sys.executable, "-m", "nivelus.cli", "level", str(source), "-o", str(out), "--format", form]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    for _ in range(3000):
        if out.exists() and any(path.name.endswith(".part") for path in out.iterdir()):
            break
        assert process.poll() is None, process.communicate()
        time.sleep(0.01)
    process.send_signal(number)
    _, said = process.communicate(timeout=30)
    assert process.returncode != 0
    assert "Traceback" not in said
    assert list(out.iterdir()) == []


@pytest.mark.parametrize("close", ["", "os.close(2)"], ids=["heard", "nobody listens any more"])
def test_a_signal_that_comes_while_an_object_is_destroyed_ends_the_program_too(tmp_path: Path, close: str) -> None:
    # what is raised there is printed and forgotten, and the program goes on
    script = """
import os, pathlib, signal, sys, time
from nivelus.cli.level import _stop_tidily
from nivelus.core.files import whole_file

class Dying:
    def __del__(self):
        os.kill(os.getpid(), signal.SIGTERM)
        time.sleep(0.1)

_stop_tidily()
exec(sys.argv[2])
with whole_file(pathlib.Path(sys.argv[1])) as part:
    part.write_bytes(b"half of it")
    Dying()
print("went on")
"""
    ended = subprocess.run(
        [sys.executable, "-c", script, str(tmp_path / "out.wav"), close],
        capture_output=True,
        text=True,
        timeout=30,
        check=False,
    )
    assert (ended.returncode, ended.stdout) == (128 + signal.SIGTERM, "")
    assert ended.stderr == ("" if close else "Stopped. What was not finished is not there.\n")
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("moment", range(4))
def test_a_program_that_is_stopped_as_soon_as_it_says_where_it_is_ends(tmp_path: Path, moment: int) -> None:
    """What a signal raises while an object is being destroyed goes nowhere: the program went on for ever."""
    program = Program(tmp_path / "data", "--no-demo", waits=False)
    until = time.monotonic() + 120
    while "Nivelus is at" not in program.said():
        assert program.process.poll() is None, program.said()
        assert time.monotonic() < until
        time.sleep(0.002)
    time.sleep(moment * 0.05)
    program.stop()
    assert program.process.returncode == 0
    assert "Traceback" not in program.said()
