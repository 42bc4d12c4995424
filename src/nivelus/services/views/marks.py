"""Marks as the interface takes them, with the dips that they make."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import lru_cache
from typing import Any

import numpy as np

from nivelus.core.chain.marks import TrackMarks
from nivelus.core.chain.state import Places, TrackState
from nivelus.core.drafts.dip_rules import LISP
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.kinds import ESS, KINDS, OF_CODE
from nivelus.core.marks.mark import COLUMNS, HOLDS
from nivelus.services.views.session import MarkColumns, MarkValues, MarkView

_AT = {name: column for column, name in enumerate(COLUMNS)}
_HELD = [[what for bit, what in enumerate(HOLDS) if holds >> bit & 1] for holds in range(1 << len(HOLDS))]
"""What a mark holds, by the bits that say so."""
_WORDS = ("kind", "keep", "reason", "holds")
_FLAGS = ("lisp", "on", "notch", "by_hand", "made", "moved")
"""Columns of marks that hold words, and that are switches; all others are numbers."""


def view_marks(state: TrackState, track_id: str, places: Places) -> list[MarkView]:
    """The marks at some places as the interface shows them."""
    if not len(places):
        return []
    columns = _columns(state, places)
    ids = (state.marks.ids[place] for place in places.tolist())
    rows = zip(ids, *columns.values(), strict=True)
    return [MarkView(id=id, track=track_id, **dict(zip(columns, values, strict=True))) for id, *values in rows]


def mark_columns(state: TrackState, places: Places) -> MarkColumns:
    """The same of many marks, column by column."""
    columns, words, said = _columns(state, places), {}, {}
    columns["holds"] = [" ".join(holds) for holds in columns["holds"]]
    for name in _WORDS:
        words[name], said[name] = _indexed(columns.pop(name))
    flags = np.zeros(len(places), np.int64)
    for bit, name in enumerate(_FLAGS):
        flags |= np.array(columns.pop(name), np.int64) << bit
    ids = _in_short(state.marks.ids[place] for place in places.tolist())
    return MarkColumns(ids=ids, numbers=columns, flags=flags.tolist(), names=list(_FLAGS), words=words, said=said)


def _columns(state: TrackState, places: Places) -> dict[str, list[Any]]:
    """All that is told of the marks at some places besides their ids, by name.

    Whole columns at once: an hour has thousands of marks, and to look at each of its numbers would cost as much as a view.
    """
    marks, rate, arrays = state.marks, state.rate, state.marks.arrays
    dips, found = marks.draft.dips, marks.found[places]
    kinds, stands, on = arrays.kind[places], state.stands_after(places), marks.applied[places]
    times = {
        "start": arrays.start,
        "end": arrays.end,
        "dip_start": dips.start,
        "dip_end": dips.end,
        "ramp_in": dips.ramp_in,
        "ramp_out": dips.ramp_out,
    }
    levels = {
        "level": arrays.level[places],
        "confidence": found[:, _AT["confidence"]],
        "excess": arrays.excess[places],
        "before": state.stands_before[places],
        "after": stands,
        "depth": dips.depth[places],
    }
    at = places.tolist()
    rows = [marks.by_hand[place] for place in at]
    keeps, reasons = _keeps_and_reasons(marks, at)
    return {
        "kind": [OF_CODE[kind].name for kind in kinds.tolist()],
        "keep": keeps,
        "reason": reasons,
        "holds": [_HELD[holds] for holds in found[:, _AT["holds"]].astype(int).tolist()],
        "lisp": (on & (kinds == ESS.code) & (stands < -LISP)).tolist(),
        "on": on.tolist(),
        "notch": dips.notch[places].tolist(),
        "by_hand": [row is not None for row in rows],
        "made": [row is not None and row.found is None for row in rows],
        "moved": [row is not None and row.moved for row in rows],
        **{name: _rounded(column[places] / rate, 6) for name, column in times.items()},
        **{name: _rounded(column, 3) for name, column in levels.items()},
    }


def mark_figures(state: TrackState) -> tuple[dict[str, Any], dict[str, Any]]:
    """How the marks of each kind stand before gain and after it, how many lisp, and how many are down.

    Of a kind it is what its ``share`` of them stand under; None where there are none.
    """
    places = np.arange(len(state.marks.ids))
    kinds, on, after = state.marks.arrays.kind, state.marks.applied, state.stands_after(places)
    sides = []
    for values in (state.stands_before, after):
        stands: dict[str, float | None] = {}
        for kind in KINDS:
            if kind.share is not None:
                own = values[(kinds == kind.code) & np.isfinite(values)]
                stands[kind.name] = float(np.percentile(np.round(own, 3), kind.share)) if len(own) else None
        sides.append({"stands": stands})
    lisps = int((on & (kinds == ESS.code) & (after < -LISP)).sum())
    return sides[0] | {"lisps": 0, "down": 0}, sides[1] | {"lisps": lisps, "down": int(on.sum())}


def mark_values(state: TrackState, places: Places) -> MarkValues:
    """What of the marks at some places changes with gain and rules, as the interface takes it."""
    marks, after = state.marks, state.stands_after(places)
    ids, reason, reasons = _words_of(marks, places.tobytes())
    on = marks.applied[places]
    is_ess = marks.arrays.kind[places] == ESS.code
    return MarkValues(
        ids=ids,
        depth=np.round(marks.draft.dips.depth[places], 2).tolist(),
        after=[None if value != value else value for value in np.round(after, 2).tolist()],
        flags=(on + 2 * (on & is_ess & (after < -LISP))).tolist(),
        names=["on", "lisp"],
        reason=reason,
        reasons=reasons,
    )


@lru_cache(maxsize=2)
def _words_of(marks: TrackMarks, places: bytes) -> tuple[str, list[int], list[str]]:
    """The ids of marks at some places, in short, and why they are as they are; the same for every gain of their clips."""
    at = np.frombuffer(places, np.int64).tolist()
    _, reasons = _keeps_and_reasons(marks, at)
    return _in_short(marks.ids[place] for place in at), *_indexed(reasons)


def _keeps_and_reasons(marks: TrackMarks, at: Sequence[int]) -> tuple[list[str], list[str]]:
    """What the hand said of marks at some places, and why each is as it is."""
    keeps = [row.keep if (row := marks.by_hand[place]) else "rule" for place in at]
    return keeps, ["kept out" if keep == "out" else marks.draft.reason[place] for keep, place in zip(keeps, at, strict=True)]


def _indexed(words: Sequence[str]) -> tuple[list[int], list[str]]:
    """Words as places in a list of each of them once, and that list."""
    said = sorted(set(words))
    place_of = {word: place for place, word in enumerate(said)}
    return [place_of[word] for word in words], said


def _in_short(ids: Iterable[str]) -> str:
    """Ids one after the other, without the kinds that are those of the ones before them."""
    out, last = [], ""
    for id in ids:
        kind, stop, _ = id.partition(".")
        out.append(id[len(kind) :] if stop and kind == last else id)
        last = kind if stop else last
    return " ".join(out)


def _rounded(column: FloatArray, digits: int) -> list[Any]:
    """A column for the interface; None where it is not finite."""
    values: list[Any] = np.round(column, digits).tolist()
    for place in np.flatnonzero(~np.isfinite(column)).tolist():
        values[place] = None
    return values
