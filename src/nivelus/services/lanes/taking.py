"""Taking a pass down while it plays: it is begun, its pieces come in, and it ends."""

from __future__ import annotations

import re
from dataclasses import asdict

import numpy as np

from nivelus.core.errors import GainError, Refused
from nivelus.core.passes.gesture import gesture_of
from nivelus.services.lanes.passes import PAIR_BYTES, Lanes, Settings, count_of_pairs, stamp_of_lane
from nivelus.services.track.state import owners_of_track
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.passes import PassView
from nivelus.store.history import require
from nivelus.store.pass_rows import next_number, put_piece, undecided
from nivelus.store.tables import Pass

MOST_PAIRS = 4_000_000
"""What a pass may hold: three hours, taken down 375 times a second."""
MOST_UNDECIDED = 200
_ID = re.compile(r"[A-Za-z0-9_-]{8,32}")


def begin(
    bench: Workbench,
    track_id: str,
    pass_id: str,
    lane: str,
    mode: str,
    span: tuple[float, float] | None,
    settings: Settings,
) -> PassView:
    """Begin to take a pass down. The id is the page's, so that asking twice makes one.

    Raises
    ------
    NotFound, Refused
    """
    if not _ID.fullmatch(pass_id):
        raise Refused("The name of a pass is 8 to 32 letters or digits.")
    with bench.database.writing() as db:
        session, track, timeline = owners_of_track(db, track_id)
        known = db.get(Pass, pass_id)
        if known is not None and known.track_id != track_id:
            raise Refused("This pass belongs to another track.")
        if known is None:
            if undecided(db, track_id) >= MOST_UNDECIDED:
                raise Refused(f"{MOST_UNDECIDED} passes on this track are undecided. Keep or discard some of them first.")
            known = Pass(
                id=pass_id,
                session_id=session.id,
                track_id=track_id,
                take=track.take,
                number=next_number(db, track_id),
                lane=lane,
                mode=mode,
                stamp=stamp_of_lane(db, track, lane),
                span_start=None if span is None else min(span),
                span_end=None if span is None else max(span),
                **asdict(settings),
            )
            db.add(known)
            db.flush()
        return Lanes(db, track, timeline).view(known)


def take_down(bench: Workbench, pass_id: str, first: int, data: bytes) -> int:
    """Take down a piece of a pass: little-endian float64 pairs of seconds and dB, from pair number ``first`` on.

    The same piece again changes nothing. Answers with how many pairs are there.

    Raises
    ------
    NotFound, Refused
    """
    if len(data) % PAIR_BYTES:
        raise Refused("A piece of a pass is pairs of seconds and dB.")
    pairs = np.frombuffer(data, "<f8").reshape(-1, 2)
    try:
        gesture_of(pairs)
    except GainError as error:
        raise Refused(error.sentence) from error
    with bench.database.writing() as db:
        row = require(db, Pass, pass_id, "pass")
        there = count_of_pairs(db, pass_id)
        if row.state != "writing" or first < there:
            return there
        if first > there:
            raise Refused("A piece of this pass is missing.", count=there)
        if there + len(pairs) > MOST_PAIRS:
            raise Refused("A pass of more than three hours is not taken down. What there is of it is kept.")
        if len(pairs):
            put_piece(db, pass_id, row.session_id, first, data)
        return there + len(pairs)
