"""What a person waits for: python -m bench.waits [--minutes 60] [--rounds 3]

A real program - server, worker, database - on an hour of some thousand phrases with details and a ride. Everything is asked
for over HTTP as the page asks for it, and timed from the question to the last byte of the answer, JSON read included. The
search by name (Ctrl+K) asks for nothing: it looks through what the page has.
"""

from __future__ import annotations

import argparse
import shutil
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from tests.helpers.answers import every_mark
from tests.helpers.program import Program

from bench.beside import Pace, line, told
from bench.speed import make_recording

QUICK, RIDE, LOAD, AGAIN, RENDER, IMPORT = 0.3, 2.5, 3.0, 0.05, 4.0, 4.5
"""Seconds at most where ffmpeg goes through an hour in ``beside.HOUR`` seconds."""


class Job:
    """One session in one program, and how long everything in it took."""

    def __init__(self, program: Program, state: dict[str, Any]) -> None:
        self.program, self.session = program, state["id"]
        self.track = state["tracks"][0]["id"]
        self.clips = [clip["id"] for clip in state["clips"]]
        self.marks = [mark["id"] for mark in every_mark(state)]
        self.revision, self.gain = state["revision"], ""
        self.times: dict[tuple[str, float], list[float]] = {}

    @contextmanager
    def timed(self, name: str, most: float) -> Iterator[None]:
        """Note what is waited for."""
        began = time.perf_counter()
        yield
        self.times.setdefault((name, most), []).append(time.perf_counter() - began)

    def edit(self, name: str, most: float, address: str, body: dict[str, Any] | None = None, method: str = "POST") -> None:
        """An edit of the session."""
        with self.timed(name, most):
            answer = self.program.post(address, {"revision": self.revision, **(body or {})}, method)
        self.revision = answer["revision"]
        self.gain = next(track["gain_key"] for track in answer["tracks"] if track["id"] == self.track)

    def ask(self, name: str, most: float, address: str) -> Any:
        """A question that is answered in JSON."""
        with self.timed(name, most):
            return self.program.get(address)

    def fetch(self, name: str, most: float, *addresses: str) -> None:
        """Questions that are answered in bytes, one after the other."""
        with self.timed(name, most):
            for address in addresses:
                self.program.get_bytes(address)


def round_of(job: Job, number: int) -> None:
    """Everything once, in the order of the work."""
    track, session = f"/api/tracks/{job.track}", f"/api/sessions/{job.session}"
    target = {"target": -18.0 - number % 2, "keep_by_hand": False}
    job.ask("sessions page", QUICK, "/api/sessions")
    state = job.ask("open the session", QUICK, f"{session}?first={job.track}")
    key = next(item for item in state["tracks"] if item["id"] == job.track)["timeline"]["key"]
    job.edit("target", QUICK, session, {"rule": target}, "PATCH")
    with job.timed("draft of all phrases", QUICK):
        job.program.post(f"{track}/draft", {})
    job.edit("draft accepted", QUICK, f"{track}/draft/accept")
    job.ask("figures", QUICK, f"{track}/figures")
    job.edit(
        "rule of details", QUICK, f"{track}/details/rule", {"kind": "breath", "rule": {"on": True, "depth": -6.0 - number}}
    )
    job.edit("another rule", QUICK, f"{track}/details/rule", {"kind": "gap", "rule": {"on": True, "depth": -9.0 - number}})
    job.edit("depth of one dip", QUICK, f"{track}/details/depth", {"marks": [job.marks[40 + number]], "by": -1.0})
    with job.timed("draft of a ride", RIDE):
        job.program.post(f"{track}/ride/draft", {"rule": {"strength": 100.0 - number}})
    job.edit("ride accepted", RIDE, f"{track}/ride/draft/accept", {"rule": {"strength": 100.0 - number}})
    job.edit("undo of the ride", QUICK, f"{session}/undo")
    job.edit("redo of the ride", QUICK, f"{session}/redo")
    for step in range(5):
        job.edit("nudge", QUICK, f"{track}/gain", {"clips": [job.clips[100 + 7 * step]], "by": 0.5})
        job.fetch("what is heard after a nudge", QUICK, f"{track}/heard?key={job.gain}")
    job.edit("nudge of all", QUICK, f"{track}/gain", {"clips": job.clips, "by": 0.1})
    job.edit("move", QUICK, f"{track}/move", {"clips": [job.clips[-2]], "by": 0.01})
    job.edit("undo of the move", QUICK, f"{session}/undo")
    job.edit("lift", QUICK, f"{track}/lanes/lift", {"lane": "ride", "start": 700.0, "end": 720.0, "by": 1.0})
    job.ask("figures after an edit", QUICK, f"{track}/figures")
    job.ask("strays and insides", QUICK, f"{track}/ride/inside")
    job.ask("lanes", QUICK, f"{track}/lanes")
    job.ask("work of the compressor", LOAD, f"{track}/load")
    job.ask("the same again", AGAIN, f"{track}/load")
    samples = f"key={key}&start={48_000 * 1800}&count=48000&rate=48000"
    job.fetch("first play", QUICK, f"{track}/heard?key={job.gain}", f"{track}/samples?{samples}")
    with job.timed("render", RENDER):
        made = job.program.post(f"{track}/render", {})
        done = job.program.finished(job.session, made["id"])
        assert done["state"] == "done", done
    job.program.delete(f"/api/jobs/{made['id']}")


def dropping(path: Path, rounds: int) -> None:
    """From the drop of a file until its track is there: a memo of an hour against the same hour as a WAV file."""
    memo = path.with_suffix(".m4a")
    subprocess.run(["ffmpeg", "-v", "error", "-i", str(path), "-c:a", "aac", "-b:a", "96k", str(memo)], check=True)
    took: dict[str, list[float]] = {".wav": [], ".m4a": []}
    for number in range(rounds):
        for file in (path, memo):
            # a recording that a program knows is not read again
            program = Program(path.with_name(f"drop {number}{file.suffix}"), "--no-demo")
            try:
                session, data = program.post("/api/sessions", {"name": "Drop"})["id"], file.read_bytes()
                began = time.perf_counter()
                made = program.post(f"/api/sessions/{session}/uploads?name={file.name}", data)
                assert program.finished(session, made["id"])["state"] == "done"
                took[file.suffix].append(time.perf_counter() - began)
            finally:
                program.stop()
                shutil.rmtree(program.data)
    wav, m4a = (statistics.median(times) for times in took.values())
    line(
        "from the drop of an M4A to its track", told(m4a), f"as WAV {told(wav)}: {m4a / wav:.2f}, at most 1.6", m4a <= 1.6 * wav
    )


def main() -> None:
    """Build the session, do everything a few times, and print a line for each."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=int, default=60)
    parser.add_argument("--rounds", type=int, default=3)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        path = folder / "hour.wav"
        make_recording(path, options.minutes)
        program = Program(folder / "data", "--no-demo")
        try:
            pace = Pace(path)
            # an upload is read into the page's memory by nobody: only the job is timed
            session = program.post("/api/sessions", {"name": "Hour"})["id"]
            made = program.post(f"/api/sessions/{session}/uploads?name=hour.wav", path.read_bytes())
            began = time.perf_counter()
            assert program.finished(session, made["id"])["state"] == "done"
            pace.line("import", time.perf_counter() - began, IMPORT)
            dropping(path, options.rounds)
            pace.since()
            state = program.get(f"/api/sessions/{session}")
            job = Job(program, state)
            print(f"     {len(job.clips)} clips, {len(job.marks)} marks", flush=True)
            tell(job, pace, lambda number: round_of(job, number), options.rounds)
        finally:
            program.stop()


def tell(job: Job, pace: Pace, work: Callable[[int], None], rounds: int) -> None:
    """Do some work in rounds, and print the time in the middle and the longest of each thing in it."""
    hours = [pace.hour()]
    for number in range(rounds):
        work(number)
        hours.append(pace.hour())
    hour = statistics.mean(hours)
    for (name, most), took in job.times.items():
        words = f"{statistics.median(took) * 1000:.0f} ms, {max(took) * 1000:.0f} at most"
        pace.line(name, statistics.median(took), most, words, hour)


if __name__ == "__main__":
    main()
