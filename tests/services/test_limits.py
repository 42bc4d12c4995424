"""What a curve may cost, where its points may lie, and that nobody waits for an edit that is being worked out."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import numpy as np
import pytest
from sqlmodel import col

from nivelus.core.deliver.curve_csv import read_csv, write_csv
from nivelus.core.deliver.curve_midi import MOST_EVENTS, read_midi, write_midi
from nivelus.core.errors import CurveFileError, Refused, Stale
from nivelus.core.gain.drawn import Curve, curve_of, plain
from nivelus.core.gain.edits import smooth
from nivelus.services.answers.edits import run_edit
from nivelus.services.clips import clips
from nivelus.services.lanes import curve_files, drawing, rides
from nivelus.services.sessions import sessions
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.store.editing import Edit
from nivelus.store.steps import unpack_step
from nivelus.store.tables import Change, Track
from tests.helpers.edits import content, points_of, state_of
from tests.helpers.near import near


def points(bench: Workbench, track: str) -> list[float]:
    return [point.at for point in rides.view(bench, track).ride]


def test_no_point_lies_outside_the_track(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    length = state.tracks[0].timeline.duration

    def revision() -> int:
        return state_of(bench, track).revision

    with pytest.raises(Refused, match="beyond the end of the track"):
        drawing.put_point(bench, track, revision(), "ride", 20_000.0, -3.0)
    with pytest.raises(Refused, match="beyond the end"):
        drawing.lift_span(bench, track, revision(), "ride", length + 1, length + 2, 1.0)
    drawing.lift_span(bench, track, revision(), "ride", 0.0, 0.5, 1.0)
    drawing.lift_span(bench, track, revision(), "ride", length - 0.5, length + 50, -2.0)
    drawing.draw_line(bench, track, revision(), "ride", [(2.0, 0.0), (3.0, -3.0), (4000.0, 2.0)])
    curve_files.bring_in(bench, track, revision(), "trim", "a.csv", b"0,-1\n1,-2\n3600,-3\n")
    drawing.paste_range(bench, track, revision(), "ride", length - 0.2, 0.0, 3.0, (track, "ride"))
    drawing.change_points(bench, track, revision(), "ride", points_of(bench, track, "ride", -1), seconds=500.0)
    for at in (points(bench, track), [point.at for point in rides.view(bench, track).trim]):
        assert min(at) >= 0.0
        assert max(at) <= length + 1e-6


def test_what_is_cut_off_at_the_end_leaves_the_rest_as_it_was(bench: Workbench, track: str) -> None:
    state = state_of(bench, track)
    curve_files.bring_in(bench, track, state.revision, "ride", "a.csv", b"0,0\n100,-10\n")
    length = state.tracks[0].timeline.duration
    last = rides.view(bench, track).ride[-1]
    assert (last.at, last.db) == (pytest.approx(length), pytest.approx(-length / 10))


@pytest.mark.parametrize("what", ["delete", "smooth", "thin"])
def test_a_range_without_points_between_points_is_no_fault(bench: Workbench, track: str, what: str) -> None:
    """Points at 0.5 and 6 s, and nothing in the span between them."""
    for at in (0.5, 6.0):
        drawing.put_point(bench, track, state_of(bench, track).revision, "ride", at, -3.0)
    before = rides.view(bench, track)
    where = bench, track, state_of(bench, track).revision, "ride", 2.0, 3.0
    if what == "delete":
        drawing.delete_range(*where)
    else:
        drawing.change_range(*where, what)
    assert {(p.at, p.db) for p in before.ride} <= {(p.at, round(p.db, 6)) for p in rides.view(bench, track).ride}


def hour(count: int) -> Curve:
    random = np.random.default_rng(3)
    at = np.unique(np.round(np.linspace(0, 3600, count) + random.uniform(0, 0.001, count), 6))
    return plain(at, np.round(random.normal(0, 4, len(at)), 3))


def test_a_midi_file_is_counted_before_it_is_written() -> None:
    endless = curve_of([(0.0, 0.0), (MOST_EVENTS / 100 + 100, -12.0)])
    begun = time.monotonic()
    with pytest.raises(CurveFileError, match="too long for a MIDI file"):
        write_midi(endless)
    assert time.monotonic() - begun < 1.0
    # one that holds still has few events, however long it is
    assert len(write_midi(curve_of([(0.0, -3.0), (500_000.0, -3.0)]))) < 1000


def test_an_hours_curve_survives_midi_and_csv() -> None:
    curve = hour(10_000)
    again = read_midi(write_midi(curve))
    at = np.linspace(0.5, 3599, 5000)
    # the moves between points are told every 10 ms, to 0.0044 dB
    assert np.percentile(np.abs(again(at) - curve(at)), 99) < 0.2
    large = hour(360_000)
    back = read_csv(write_csv(large))
    assert back.at == near(large.at, abs=1e-6)
    assert back.db == near(large.db, abs=1e-4)


def test_smoothing_costs_by_points_and_not_by_seconds() -> None:
    few = curve_of([(0.0, 0.0), (10.0, -6.0), (20.0, 3.0)])
    long = smooth(few, 0.0, 1e6, 0.4)
    short = smooth(few, 0.0, 30.0, 0.4)
    at = np.linspace(0, 29, 3000)
    assert long(at) == near(short(at), abs=0.1)
    assert len(long) < 60


def test_an_edit_of_few_points_of_many_keeps_few_bytes(bench: Workbench, track: str) -> None:
    """Of a lane with thousands of points, and of many clips, a step keeps what is different."""
    rows = b"".join(b"%.4f,%.3f\n" % (i * 0.001, 3 * np.sin(i / 7)) for i in range(5000))
    curve_files.bring_in(bench, track, state_of(bench, track).revision, "ride", "a.csv", rows)
    for number in range(20):
        drawing.lift_span(bench, track, state_of(bench, track).revision, "ride", 1.0 + number / 10, 1.05 + number / 10, 0.5)
        state = state_of(bench, track)
        clips.set_gain(bench, track, state.revision, [c.id for c in state.clips], by=0.1)
    with bench.database.reading() as db:
        changes = db.query(Change).order_by(col(Change.id)).all()[2:]
    assert len(changes) == 40
    assert np.mean([len(change.data) for change in changes]) < 2200
    for change in changes:
        for row in unpack_step(change.data):
            assert set(row["after"] or {}) <= {"gain", "by_hand"}
    # and takes them back exactly
    before = content(state_of(bench, track)), rides.view(bench, track)
    session = state_of(bench, track).id
    for step in (sessions.undo, sessions.redo):
        for _ in range(40):
            step(bench, session, state_of(bench, track).revision)
    assert (content(state_of(bench, track)), rides.view(bench, track)) == before


def test_nobody_waits_for_an_edit_that_is_being_worked_out(bench: Workbench, track: str, voice_file: Path) -> None:
    """An edit that takes long holds nothing: others write meanwhile, and it is told that it came too late for its session."""
    other = sessions.create(bench, "Other")
    begun, go = threading.Event(), threading.Event()
    results: list[object] = []

    def slow(edit: Edit, row: Track, timeline: Timeline) -> None:
        row.name = f"Slow {edit.session.revision}"
        begun.set()
        assert go.wait(20)

    def work(revision: int) -> None:
        try:
            results.append(run_edit(bench, track, "Slow", revision, slow))
        except Stale as error:
            results.append(error)

    state = state_of(bench, track)
    thread = threading.Thread(target=work, args=(state.revision,))
    thread.start()
    assert begun.wait(20)
    at = time.monotonic()
    sessions.update(bench, other, 0, {"name": "Renamed meanwhile"})
    assert time.monotonic() - at < 2.0
    go.set()
    thread.join(20)
    # another session does not disturb it
    assert state_of(bench, track).tracks[0].name.startswith("Slow")
    begun.clear()
    go.clear()
    thread = threading.Thread(target=work, args=(state_of(bench, track).revision,))
    thread.start()
    assert begun.wait(20)
    clip = state_of(bench, track).clips[0].id
    clips.set_gain(bench, track, state_of(bench, track).revision, [clip], to=3.0)
    go.set()
    thread.join(20)
    assert isinstance(results[-1], Stale)
    assert state_of(bench, track).clips[0].gain == 3.0
