"""What of a clip and of a mark is kept is said by its table; rows and columns that are made of it agree with that."""

from __future__ import annotations

from dataclasses import fields
from typing import Any, get_type_hints

import pytest
from sqlmodel import SQLModel

from nivelus.core.chain.clips import BoolArray, ClipTable
from nivelus.core.chain.marks import Hand
from nivelus.core.gain.clips import ClipSpans
from nivelus.core.measure.filters import FloatArray
from nivelus.store.clip_rows import ClipRow, Recorded
from nivelus.store.tables import Clip, Detail, Recording

ELSEWHERE: dict[Any, set[str]] = {Hand: {"track_id", "take"}, ClipRow: set()}
"""Columns that say whose a row is, and are no part of what it says."""


@pytest.mark.parametrize(("row", "table"), [(ClipRow, Clip), (Hand, Detail)])
def test_a_row_has_the_columns_of_its_table(row: Any, table: type[SQLModel]) -> None:
    kept = {name: field.annotation for name, field in table.model_fields.items() if name not in ELSEWHERE[row]}
    assert get_type_hints(row) == kept


def test_a_recording_is_read_by_columns_of_its_table() -> None:
    assert set(Recorded._fields) <= Recording.model_fields.keys()


def test_the_columns_of_clips_are_those_of_their_rows() -> None:
    hints = get_type_hints(ClipRow)
    kinds = {bool: BoolArray, float: FloatArray, float | None: FloatArray}
    columns = {field.name for field in fields(ClipTable)} - {"ids", "spans", "curves"}
    told = get_type_hints(ClipTable)
    assert {name: told[name] for name in columns} == {name: kinds[hints[name]] for name in columns}
    assert {field.name for field in fields(ClipSpans)} <= hints.keys()
