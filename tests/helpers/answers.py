"""What the page knows of a session, put together from answers as it does, and compared with everything loaded anew."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import fields
from typing import Any, NamedTuple

import numpy as np
import pytest
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.marks import FoundMarks, Hands
from nivelus.core.chain.state import Lanes
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store import clip_rows, reading

Known = dict[str, dict[str, Any]]


def known_of(state: Changed) -> Known:
    """Clips and marks, each under its sort, track and id."""
    known = {}
    for sort in ("clips", "marks"):
        for item in getattr(state, sort):
            row = item.model_dump()
            known[f"{sort} {item.track} {item.id}"] = row | {"holds": " ".join(row.get("holds", []))}
    for track, columns in state.mark_columns.items():
        for row in _from_columns(track, columns.model_dump()):
            known[f"marks {track} {row['id']}"] = row
    return known


def every_mark(state: dict[str, Any]) -> list[dict[str, Any]]:
    """The marks of an answer as it was sent, whichever way they are told, in order of time."""
    rows = list(state["marks"])
    for track, table in state["mark_columns"].items():
        rows += ({**row, "holds": row["holds"].split()} for row in _from_columns(track, table))
    return sorted(rows, key=lambda row: row["start"])


def _from_columns(track: str, table: dict[str, Any]) -> Iterator[dict[str, Any]]:
    for place, id in enumerate(in_full(table["ids"])):
        row = {"id": id, "track": track} | {name: column[place] for name, column in table["numbers"].items()}
        row |= {name: bool(table["flags"][place] >> bit & 1) for bit, name in enumerate(table["names"])}
        yield row | {name: table["said"][name][at[place]] for name, at in table["words"].items()}


def in_full(ids: str) -> list[str]:
    """Ids with the kinds that were left out."""
    out: list[str] = []
    kind = ""
    for id in ids.split():
        kind = id.split(".")[0] if "." in id and not id.startswith(".") else kind
        out.append(kind + id if id.startswith(".") else id)
    return out


def put_in(known: Known, answer: Changed) -> Known:
    """What the page knows after an answer, as it works it out."""
    tracks = {track.id for track in answer.tracks}
    gone = {
        f"{sort} {track} {id}"
        for sort, removed in (("clips", answer.removed), ("marks", answer.removed_marks))
        for track, ids in removed.items()
        for id in ids
    }
    kept = {
        key: dict(item)
        for key, item in known.items()
        if item["track"] in tracks and item["track"] not in answer.whole and key not in gone
    }
    kept |= known_of(answer)
    for sort, columns in (("clips", answer.clip_values), ("marks", answer.mark_values)):
        for track, values in columns.items():
            table = values.model_dump()
            ids, names, flags = in_full(table.pop("ids")), table.pop("names"), table.pop("flags")
            reasons = table.pop("reasons", None)
            for place, id in enumerate(ids):
                row = {name: column[place] for name, column in table.items()}
                row |= {name: bool(flags[place] >> bit & 1) for bit, name in enumerate(names)}
                if reasons:
                    row["reason"] = reasons[row["reason"]]
                kept[f"{sort} {track} {id}"] |= row
    return kept


class Rows(NamedTuple):
    """What is read of a track."""

    clips: clip_rows.ClipRows
    hands: Hands
    marks: Mapping[str | None, FoundMarks]
    lanes: Lanes


def rows_of(db: DbSession, track: str) -> Rows:
    return Rows(
        reading.clip_rows(db, track), reading.hands_of(db, track), reading.found_marks(db, track), reading.lanes_of(db, track)
    )


def kept_is_stored(bench: Workbench, track: str) -> None:
    """What is kept of a track's rows from edit to edit is what the database has."""
    with bench.database.reading() as db:
        kept = rows_of(db, track)
        db.info["revisions"].clear()
        reading.forget()
        stored = rows_of(db, track)
        assert list(kept.clips) == list(stored.clips)
        assert sorted(kept.hands.rows) == sorted(stored.hands.rows)
        assert {id: marks.ids for id, marks in kept.marks.items()} == {id: marks.ids for id, marks in stored.marks.items()}
        assert kept.clips.places == stored.clips.places
        for lane, other_lane in zip(kept.lanes, stored.lanes, strict=True):
            assert lane[1:] == other_lane[1:]
            np.testing.assert_array_equal(lane.points.at, other_lane.points.at)
            np.testing.assert_array_equal(lane.points.db, other_lane.points.db)
        mine, theirs = kept.clips.table, stored.clips.table
        for column in fields(mine):
            own, other = getattr(mine, column.name), getattr(theirs, column.name)
            if isinstance(other, np.ndarray):
                assert own.dtype == other.dtype, column.name
                np.testing.assert_array_equal(own, other, column.name)
        np.testing.assert_array_equal(mine.phrases, theirs.phrases)
        assert [len(curve) for curve in mine.curves] == [len(curve) for curve in theirs.curves]


def same(known: Known, fresh: Changed, after: str = "") -> None:
    """What is known equals everything loaded anew; ``after`` says what was done."""
    expected = known_of(fresh)
    assert known.keys() == expected.keys(), (after, known.keys() ^ expected.keys())
    for key, item in expected.items():
        different = {name for name, value in item.items() if known[key][name] != pytest.approx(value, abs=6e-3)}
        assert not different, (after, key, different, known[key], item)
