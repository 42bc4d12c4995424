"""Marks as the interface takes them, with the dips that they make."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from nivelus.core.chain.state import Places, TrackState
from nivelus.core.drafts.dips import ALL_KINDS, LISP
from nivelus.core.marks.mark import COLUMNS, HOLDS, KINDS
from nivelus.services.views import MarkValues, MarkView

_AT = {name: column for column, name in enumerate(COLUMNS)}


def view_marks(state: TrackState, track_id: str, places: Places) -> list[MarkView]:
    """The marks at some places as the interface shows them."""
    if not len(places):
        return []
    before, after = state.stands_before[places].tolist(), state.stands_after(places).tolist()
    marks, rate = state.marks, state.rate
    dips, arrays = marks.draft.dips, marks.arrays
    views = []
    for number, place in enumerate(places.tolist()):
        row = marks.by_hand[place]
        kind = ALL_KINDS[arrays.kind[place]]
        holds = int(marks.found[place, _AT["holds"]])
        keep = row.keep if row else "rule"
        views.append(
            MarkView(
                id=marks.ids[place],
                track=track_id,
                kind=kind,
                start=arrays.start[place] / rate,
                end=arrays.end[place] / rate,
                level=arrays.level[place],
                confidence=marks.found[place, _AT["confidence"]],
                excess=_or_none(arrays.excess[place]),
                holds=[what for bit, what in enumerate(HOLDS) if holds >> bit & 1],
                before=_or_none(before[number]),
                after=_or_none(after[number]),
                lisp=kind == "ess" and bool(after[number] < -LISP) and bool(marks.applied[place]),
                on=bool(marks.applied[place]),
                keep=keep,
                reason="kept out" if keep == "out" else marks.draft.reason[place],
                by_hand=row is not None,
                made=row is not None and row.found is None,
                moved=row is not None and row.moved,
                depth=dips.depth[place],
                dip_start=dips.start[place] / rate,
                dip_end=dips.end[place] / rate,
                ramp_in=dips.ramp_in[place] / rate,
                ramp_out=dips.ramp_out[place] / rate,
                notch=bool(dips.notch[place]),
            )
        )
    return views


def mark_values(state: TrackState, places: Places) -> MarkValues:
    """What of the marks at some places changes with gain and rules, as the interface takes it."""
    marks, after = state.marks, state.stands_after(places)
    keeps = [row.keep if (row := marks.by_hand[place]) else "rule" for place in places.tolist()]
    words = ["kept out" if keep == "out" else marks.draft.reason[p] for keep, p in zip(keeps, places.tolist(), strict=True)]
    reasons = sorted(set(words))
    place_of = {word: place for place, word in enumerate(reasons)}
    on = marks.applied[places]
    is_ess = marks.arrays.kind[places] == KINDS.index("ess")
    return MarkValues(
        ids=_in_short(marks.ids[place] for place in places.tolist()),
        depth=np.round(marks.draft.dips.depth[places], 2).tolist(),
        after=[None if value != value else value for value in np.round(after, 2).tolist()],
        flags=(on + 2 * (on & is_ess & (after < -LISP))).tolist(),
        names=["on", "lisp"],
        reason=[place_of[word] for word in words],
        reasons=reasons,
    )


def _in_short(ids: Iterable[str]) -> str:
    """Ids one after the other, without the kinds that are those of the ones before them."""
    out, last = [], ""
    for id in ids:
        kind, stop, _ = id.partition(".")
        out.append(id[len(kind) :] if stop and kind == last else id)
        last = kind if stop else last
    return " ".join(out)


def _or_none(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None
