"""A long day on a long recording: python -m bench.day [--edits 2000] [--minutes 60]

An hour of speech-like sound is brought in, levelled and ridden, and then edited at random, as a hand would, in the process
that serves it; its memory, the database and the time of each kind of edit are told.
"""

from __future__ import annotations

import argparse
import random
import subprocess
import sys
import tempfile
import time
from collections import defaultdict
from collections.abc import Callable
from pathlib import Path

import numpy as np
from tests.helpers.answers import every_mark

from bench.beside import Pace, line, seconds
from bench.speed import make_recording
from nivelus.core.deliver.curve_csv import read_csv, write_csv
from nivelus.core.deliver.curve_midi import read_midi, write_midi
from nivelus.core.errors import NivelusError
from nivelus.core.gain.drawn import plain
from nivelus.memory import give_memory_back, leave_what_stays
from nivelus.services.clips import clips, details, drafts
from nivelus.services.lanes import drawing, rides
from nivelus.services.sessions import cards, sessions, tracks
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.settings import Settings
from nivelus.store.steps import unpack_step
from nivelus.store.tables import Change

MOST_SECONDS, MOST_MB, MOST_STEP = 0.15, 350, 20_000
IMPORT = """
import sys
from pathlib import Path
from nivelus.settings import Settings
from nivelus.services.track.workbench import Workbench
from nivelus.services.files import imports
from nivelus.services.sessions import sessions, jobs
bench = Workbench(Settings(data=Path(sys.argv[1])))
job = imports.stage_file(bench, sessions.create(bench, "Day"), Path(sys.argv[2]))
imports.run_import(bench, job.id)
assert jobs.get(bench, job.id).state == "done", jobs.get(bench, job.id).message
"""
Edits = dict[str, Callable[[], Changed]]


def memory() -> float:
    """What this process holds now, MB."""
    status = Path("/proc/self/status").read_text()
    return int(status.split("VmRSS:")[1].split()[0]) / 1024


def marks_of(state: Changed) -> list[str]:
    """The ids of the marks of a session."""
    return [mark["id"] for mark in every_mark(state.model_dump())]


def edits_of(bench: Workbench, state: Changed, random: random.Random, revision: Callable[[], int]) -> Edits:
    """One random edit of each kind, on the first track."""
    session, track, length = state.id, state.tracks[0].id, state.tracks[0].timeline.duration
    ids, marks = [clip.id for clip in state.clips], marks_of(state)
    kinds = ("breath", "ess", "knock", "gap")

    def span() -> tuple[float, float]:
        start = random.uniform(0, length - 30)
        return start, start + random.uniform(1, 20)

    def some(items: list[str]) -> list[str]:
        return random.sample(items, min(len(items), random.choice((1, 1, 3, 30))))

    def line_of() -> list[tuple[float, float]]:
        start, _ = span()
        return [(start + i * 0.05, 3 * float(np.sin(i * 0.1))) for i in range(200)]

    def rule() -> Changed:
        values = {"on": random.random() < 0.8, "depth": -float(random.randint(1, 12))}
        return details.set_rule(bench, track, revision(), random.choice(kinds), values)

    return {
        "clip gain": lambda: clips.set_gain(bench, track, revision(), some(ids), by=random.choice((0.5, -0.5))),
        "leave out": lambda: clips.set_flag(bench, track, revision(), some(ids), "left_out", random.random() < 0.5),
        "lift": lambda: drawing.lift_span(bench, track, revision(), "ride", *span(), random.choice((1.0, -1.0))),
        "lift in the trim": lambda: drawing.lift_span(bench, track, revision(), "trim", *span(), random.choice((1.0, -1.0))),
        "lift a clip curve": lambda: drawing.lift_span(bench, track, revision(), "curve", *span(), random.choice((1.0, -1.0))),
        "point": lambda: drawing.put_point(bench, track, revision(), "ride", span()[0], random.uniform(-5, 5)),
        "smooth": lambda: drawing.change_range(bench, track, revision(), "ride", *span(), "smooth"),
        "delete a range": lambda: drawing.delete_range(bench, track, revision(), "ride", *span()),
        "draw": lambda: drawing.draw_line(bench, track, revision(), "ride", line_of()),
        "rule of details": rule,
        "depth of a dip": lambda: details.set_depth(bench, track, revision(), some(marks), by=-1.0),
        "fader": lambda: tracks.set_fader(bench, track, revision(), random.uniform(-10, 5)),
        "target": lambda: sessions.update(bench, session, revision(), {"target": random.uniform(-24, -16)}),
        "undo": lambda: sessions.undo(bench, session, revision()),
    }


def day(bench: Workbench, count: int, pace: Pace) -> None:
    """Edit, and tell what it cost."""
    session = cards.list_cards(bench)[0].id
    state = sessions.state(bench, session)
    track = state.tracks[0].id
    state = drafts.accept(bench, track, state.revision)
    now = [rides.accept(bench, track, state.revision).revision]
    state = sessions.state(bench, session)
    # as the program does once it has started
    leave_what_stays()
    print(f"{len(state.clips)} clips, {len(marks_of(state))} marks, {len(rides.view(bench, track).ride)} points of a ride")
    choice = random.Random(5)
    edits = edits_of(bench, state, choice, lambda: now[0])
    weights = dict.fromkeys(edits, 6) | {"rule of details": 3, "target": 1, "clip gain": 12, "lift": 12}
    times: dict[str, list[float]] = defaultdict(list)
    pace.since()
    for _ in range(count):
        kind = choice.choices(list(edits), [weights[name] for name in edits])[0]
        begun = time.perf_counter()
        try:
            now[0] = edits[kind]().revision
        except NivelusError:
            continue
        times[kind].append(time.perf_counter() - begun)
    ids = [clip.id for clip in sessions.state(bench, session).clips]
    for target in (-20.0, -22.0, -19.0):
        # with another target every phrase moves
        now[0] = sessions.update(bench, session, now[0], {"target": target, "keep_by_hand": False}).revision
        whole = {
            "a draft of all phrases accepted": lambda: drafts.accept(bench, track, now[0]),
            "clip gain of all of them": lambda: clips.set_gain(bench, track, now[0], ids, by=0.5),
        }
        for kind, work in whole.items():
            begun = time.perf_counter()
            now[0] = work().revision
            times[kind].append(time.perf_counter() - begun)
    pace.each(times, MOST_SECONDS)
    held = memory()
    line(f"memory after {count} edits", f"{held:.0f} MB", f"at most {MOST_MB}", held < MOST_MB)
    with bench.database.reading() as db:
        sizes = [len(change.data) for change in db.query(Change).all()[3:]]
        assert all(unpack_step(change.data) for change in db.query(Change).limit(5))
    mean = sum(sizes) / len(sizes)
    line(f"{len(sizes)} steps of the history", f"{mean:.0f} bytes each", "at most 20 kB", mean < MOST_STEP)
    with bench.database.engine.connect() as connection:
        connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
    print(f"     the database takes {bench.database.path.stat().st_size / 1e6:.1f} MB")

    def undone() -> None:
        for _ in range(100):
            now[0] = sessions.undo(bench, session, now[0]).revision

    pace.since()
    pace.line("100 undos", seconds(undone), 3)


def curves(pace: Pace) -> None:
    """Curves of an hour as files."""
    at = np.arange(360_000, dtype=np.float64) * 0.01
    moving = plain(at[::36], np.random.default_rng(1).normal(0, 4, len(at[::36])))
    large = plain(at, np.random.default_rng(2).normal(0, 4, len(at)))
    write_midi(plain(np.array([0.0, 1.0]), np.array([0.0, -1.0])))
    data, text = write_midi(moving), write_csv(large)
    pace.since()
    pace.line("an hour's ride to a MIDI file", seconds(lambda: write_midi(moving)), 0.5)
    pace.line("and back", seconds(lambda: read_midi(data)), 1)
    pace.line("360,000 lines of CSV", seconds(lambda: read_csv(text)), 2)


def main() -> None:
    """Run everything and print a line each."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--edits", type=int, default=2000)
    parser.add_argument("--minutes", type=int, default=60)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        path, data = Path(name) / "day.wav", Path(name) / "data"
        make_recording(path, options.minutes)
        # brought in by another process, as the worker does
        subprocess.run([sys.executable, "-c", IMPORT, str(data), str(path)], check=True)
        pace = Pace(path)
        # memory is handed back as in the program
        give_memory_back()
        bench = Workbench(Settings(data=data))
        day(bench, options.edits, pace)
        bench.close()
        curves(pace)


if __name__ == "__main__":
    main()
