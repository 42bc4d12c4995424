"""A track of many pieces: python -m bench.timeline

Six recordings of ten minutes at 44.1, 48 and 96 kHz are laid one after the other onto one track of an hour; every second
phrase is taken out and what stays is moved about, so that some 500 clips lie apart. Told is what composing, edits, listening
and rendering take then, and what the process holds. The seconds are of this machine.
"""

from __future__ import annotations

import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile
import soxr
from sqlmodel import col
from tests.browser.hands import REPORTS
from tests.helpers.program import Program

from bench.beside import Pace, line, seconds
from bench.chromium import VIEW, chromium
from bench.day import IMPORT, Edits, marks_of, memory
from bench.speed import RATE, make_recording
from nivelus.core.deliver.render import render
from nivelus.memory import leave_what_stays
from nivelus.services.clips import arranging, clips, details, drafts, moves
from nivelus.services.lanes import drawing
from nivelus.services.sessions import cards, sessions
from nivelus.services.track import sound, timeline
from nivelus.services.track.latest import Newest
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.settings import Settings
from nivelus.store.tables import Track

RATES = (44_100, 48_000, 96_000)
MINUTES = 10
EDITS = 40
LISTENED = 20


def recordings(folder: Path) -> list[Path]:
    """Six recordings of three rates, each other than the others."""
    whole = folder / "whole.wav"
    make_recording(whole, MINUTES)
    samples, _ = soundfile.read(whole, dtype="float32")
    paths = []
    for number in range(6):
        rate = RATES[number % 3]
        own = np.roll(samples, number * RATE * 7)
        own = own if rate == RATE else soxr.resample(own, RATE, rate)
        paths.append(folder / f"part {number}.wav")
        soundfile.write(paths[-1], own, rate, subtype="PCM_24")
    return paths


def laid_out(bench: Workbench) -> tuple[str, str]:
    """One session of one track, of some 500 clips that lie apart; its id and that of the track."""
    every = [card.id for card in cards.list_cards(bench)]
    home = every[-1]
    tracks: list[str] = []
    with bench.database.writing() as db:
        # each was imported into a session of its own: they come together
        for session in every:
            for row in db.query(Track).where(col(Track.session_id) == session):
                row.session_id, row.position = home, len(tracks)
                tracks.append(row.id)
    state = arranging.arrange(bench, home, sessions.state(bench, home).revision, tracks, "after")
    track = tracks[0]
    ids = [clip.id for clip in sessions.state(bench, home).clips]
    state = moves.take_out(bench, track, state.revision, ids[1::2])
    left = ids[0::2]
    state = moves.move(bench, track, state.revision, left[0::2], 0.0371)
    moves.move(bench, track, state.revision, left[1::2], -0.0123)
    return home, track


def edits(bench: Workbench, track: str, state: Changed, choice: random.Random, now: Callable[[], int]) -> Edits:
    """One random edit of each kind."""
    voiced = [clip for clip in state.clips if clip.phrase_start is not None]
    ids, one = [clip.id for clip in voiced], choice.choice(voiced)
    marks = marks_of(state)

    def at() -> float:
        return choice.uniform(10, state.tracks[0].timeline.duration - 20)

    return {
        "clip gain": lambda: clips.set_gain(bench, track, now(), [choice.choice(ids)], by=choice.choice((0.5, -0.5))),
        "move a clip": lambda: moves.move(bench, track, now(), [choice.choice(ids)], choice.choice((0.013, -0.017))),
        "copy a clip": lambda: moves.paste(bench, track, now(), track, [choice.choice(ids)], at()),
        "trim an end": lambda: moves.trim(bench, track, now(), one.id, "end", one.end + choice.uniform(-0.1, 0.4)),
        "lift a clip curve": lambda: drawing.lift_span(bench, track, now(), "curve", (a := at()), a + 9, 1.0),
        "lift in the ride": lambda: drawing.lift_span(bench, track, now(), "ride", (a := at()), a + 9, 1.0),
        "depth of a dip": lambda: details.set_depth(bench, track, now(), [choice.choice(marks)], by=-1.0),
        "undo": lambda: sessions.undo(bench, state.id, now()),
    }


def listened(data: Path, session: str) -> None:
    """Play at some places of it in a real browser, and tell how often the sound had to wait."""
    program = Program(data, "--no-demo")
    try:
        with chromium() as browser:
            page = browser.new_page(viewport=VIEW)
            page.add_init_script(REPORTS)
            voiced = [clip for clip in program.get(f"/api/sessions/{session}")["clips"] if clip["phrase_start"] is not None]
            starved = []
            for place in (0, len(voiced) // 3, 2 * len(voiced) // 3):
                page.goto(f"{program.address}/s/{session}/phrases?phrase={voiced[place]['id']}")
                page.locator(".capsule").first.wait_for()
                # the ruler takes the play line there
                page.get_by_test_id("chart").click(position={"x": 400, "y": 6})
                page.wait_for_timeout(2000)
                page.keyboard.press("Space")
                page.wait_for_timeout(LISTENED * 1000)
                page.keyboard.press("Space")
                starved += page.evaluate("window.starved")
        name = f"heard at three places for {LISTENED} s: reports in which the sound waited"
        line(name, f"{sum(starved)} of {len(starved)}", "none", len(starved) > 100 and not any(starved))
    finally:
        program.stop()


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        data = Path(folder) / "data"
        paths = recordings(Path(folder))
        pace = Pace(Path(folder) / "whole.wav")
        for path in paths:
            subprocess.run([sys.executable, "-c", IMPORT, str(data), str(path)], check=True)
        bench = Workbench(Settings(data=data))
        session, track = laid_out(bench)
        leave_what_stays()
        state = sessions.state(bench, session)
        with bench.database.reading() as db:
            row = db.get(Track, track)
            assert row is not None
            whole = timeline.timeline_of(db, row)
        length = whole.duration
        print(
            f"{len(state.clips)} clips in {len(whole.runs)} pieces of {len(whole.heard)} recordings, {length / 60:.0f} minutes"
        )

        def composed() -> None:
            timeline._grids = Newest(1)
            timeline.grid_of(bench, whole)

        pace.since()
        took = min(seconds(composed) for _ in range(5))
        pace.line("its level grid, composed", took, 0.05)
        times: dict[str, list[float]] = {}
        choice = random.Random(3)
        revision = [drafts.accept(bench, track, state.revision).revision]
        for _ in range(EDITS):
            for name in edits(bench, track, state, choice, lambda: revision[0]):
                work = edits(bench, track, sessions.state(bench, session), choice, lambda: revision[0])[name]
                began = time.perf_counter()
                try:
                    revision[0] = work().revision
                except Exception as error:
                    # what cannot be, as a clip over one that is locked, is refused
                    if type(error).__name__ != "Refused":
                        raise
                    continue
                times.setdefault(name, []).append(time.perf_counter() - began)
        pace.each(times, 0.15)
        ids = [clip.id for clip in sessions.state(bench, session).clips][:500]
        took = seconds(lambda: moves.move(bench, track, revision[0], ids, 0.05))
        pace.line(f"{len(ids)} clips moved at once", took, 0.3)
        told = sessions.state(bench, session).tracks[0].timeline
        blocks = []
        for second in range(0, int(told.duration) - 1, 37):
            began = time.perf_counter()
            sound.samples(bench, track, told.key, second * told.sample_rate, told.sample_rate)
            blocks.append(time.perf_counter() - began)
        pace.line("a second of it for the ear, 99 %", float(np.percentile(blocks, 99)), 0.25)
        source, _, made, _ = sound.render_source(bench, track)
        took = seconds(lambda: render(source, Path(folder) / "out.wav", made.gain))
        pace.line(f"rendered, {told.duration / took:.0f} times real time", took, told.duration / 100)
        held = memory()
        line("memory of the process", f"{held:.0f} MB", "at most 400", held < 400)
        bench.close()
        listened(data, session)


if __name__ == "__main__":
    main()
