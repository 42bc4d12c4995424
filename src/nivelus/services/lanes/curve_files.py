"""Curves that come in from elsewhere, and lanes that go out as files."""

from __future__ import annotations

from pathlib import PurePath

from nivelus.core.chain.state import LANES
from nivelus.core.deliver.curve_formats import FORMATS, every_format, parse_curve
from nivelus.core.errors import CurveFileError, Refused
from nivelus.core.gain.edits import (
    thin,
)
from nivelus.core.gain.together import inside_of
from nivelus.services.answers.edits import run_edit
from nivelus.services.lanes.parts import NAMES, add_to, clear_lane
from nivelus.services.lanes.rows import (
    whole_lane,
)
from nivelus.services.track.state import owners_of_track
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store.editing import Edit
from nivelus.store.tables import Track

MOST_POINTS = 100_000
MOST_BYTES = 16 << 20


def bring_in(bench: Workbench, track_id: str, revision: int, lane: str, name: str, data: bytes) -> Changed:
    """Import a curve that was drawn elsewhere, in place of what is in a lane."""
    with bench.database.reading() as db:
        length = owners_of_track(db, track_id)[2].duration
    # what lies beyond the end of the track would never be heard
    curve = inside_of(parse_curve(PurePath(name), data), 0.0, length)
    if len(curve) > MOST_POINTS:
        curve = thin(curve, 0.05)
    if len(curve) > MOST_POINTS:
        raise CurveFileError(f"“{PurePath(name).name}” holds more than {MOST_POINTS} points.")

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        clear_lane(edit, track, timeline, lane)
        add_to(edit, track, timeline, lane, curve)

    return run_edit(bench, track_id, f"Import a {NAMES[lane]}", revision, work)


def write_out(bench: Workbench, track_id: str, lane: str, ending: str) -> tuple[str, bytes]:
    """A lane as a file: its name and its bytes."""
    known = next((known for known in FORMATS if ending == known.ending), None)
    if known is None or lane not in LANES:
        raise Refused(f"A clip curve, ride or trim is written as {every_format()}.")
    with bench.database.reading() as db:
        _, track, timeline = owners_of_track(db, track_id)
        curve = whole_lane(db, track, timeline.sample_rate, lane)
    if not len(curve):
        raise Refused(f"There is no {NAMES[lane]} to write out.")
    return f"{track.name} {NAMES[lane]}.{ending}", known.write(curve)
