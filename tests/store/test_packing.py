"""What was packed once is read the same for ever: folders of people hold it."""

from __future__ import annotations

import numpy as np

from nivelus.core.chain.marks import FoundMarks
from nivelus.core.kinds import ALL_KINDS
from nivelus.core.marks.mark import COLUMNS, HOLDS
from nivelus.store.packing import unpack

PACKED = (
    "eAFjYEAGH+yhPAcIzQGhC55D6e8QegqjI1i+gB1CT/kIEX/+A0wf+AiVnyIIkXfwOABWz2AHpU0gdEPggbNnQOAN1N4XUBrmDhj9ox6in8cBQitBaZg4"
    "jNbAIQ7RhUlyOAAAFIskNg=="
)
"""One mark of each kind, as it was packed on 1 December 2026."""


def test_marks_that_were_packed_before_are_what_they_were() -> None:
    table = unpack(PACKED)
    assert FoundMarks(table).ids == ["breath.48000", "ess.96000", "knock.144000", "gap.192000"]
    rows = [dict(zip(COLUMNS, row, strict=True)) for row in table.tolist()]
    assert [row["end"] for row in rows] == [72_000, 102_000, 147_000, 288_000]
    assert [row["level"] for row in rows] == [-48.5, -30.0, -20.0, -70.0]
    assert np.array_equal([row["excess"] for row in rows], [np.nan, 3.5, 9.0, np.nan], equal_nan=True)
    assert [what for bit, what in enumerate(HOLDS) if int(rows[3]["holds"]) >> bit & 1] == ["clicks", "bleed"]


def test_the_codes_of_kinds_are_those_that_folders_hold() -> None:
    codes = {kind.name: kind.code for kind in ALL_KINDS}
    known = {"breath": 0, "ess": 1, "knock": 2, "gap": 3, "dip": 4}
    assert codes.items() >= known.items()
    # a new kind takes a code that none ever had, wherever it stands among the others
    assert len(set(codes.values())) == len(codes)
