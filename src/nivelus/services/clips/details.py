"""Details by hand: how deep a dip goes, what is kept out, its shape and edges, marks that are corrected or made.

A mark that the hand never touched has no row; the first touch makes one. A locked phrase keeps its dips as they are.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from typing import Any

import numpy as np

from nivelus.core.chain.marks import Hand, TrackMarks
from nivelus.core.chain.proposals import measured
from nivelus.core.chain.state import TrackState
from nivelus.core.drafts.dip_rules import LEAST_DIP
from nivelus.core.errors import Locked, NotFound, Refused
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.dips import SILENT_DIP
from nivelus.core.kinds import FREE, OF_CODE, OF_NAME
from nivelus.core.marks.details import find_details
from nivelus.services.answers.edits import run_edit
from nivelus.services.answers.followers import stands_alone
from nivelus.services.clips.detail_rows import edges_within, made_row, measure_row, put_found, row_of_mark, run_here
from nivelus.services.track.state import owners_of_track, rules_of, state_of
from nivelus.services.track.timeline import Timeline, measurable
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.levels import phrases_of
from nivelus.services.views.session import Changed
from nivelus.services.views.view import View
from nivelus.store.editing import Edit
from nivelus.store.tables import Detail, Track
from nivelus.store.track_rows import load_details


class TrialView(View):
    """What other rules would make of the dips: the depth of each, dB, in the order of ``marks``."""

    marks: list[str]
    depth: list[float]


LONGEST_RAMP = 2.0

Work = Callable[[Edit, Track, Timeline, TrackState], None]


def set_rule(bench: Workbench, track_id: str, revision: int, kind: str, values: Mapping[str, Any]) -> Changed:
    """Change the rule of a kind: its switch, its slider, its limits. Moves every dip of that kind at once."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        rule = rules_of(track, {kind: values})[kind]
        if rule.deepest > rule.shallowest:
            raise Refused("The deepest that a dip may go is not above the shallowest.")
        track.dip_rules = {**track.dip_rules, kind: rule.model_dump()}
        name = OF_NAME[kind].plural.capitalize()
        if "on" in values:
            edit.label = f"{name} down" if rule.on else f"{name} as they are"
        elif "closes" in values or "opens" in values:
            edit.label = f"{name}: closed within {rule.closes:.0%}, open within {rule.opens:.0%}"
        elif rule.silent:
            edit.label = f"{name} silent"
        else:
            edit.label = (
                f"{name} to one level, {rule.depth:+.1f} dB at most" if rule.even else f"{name} by {rule.depth:+.1f} dB"
            )

    return run_edit(bench, track_id, "Rule of details", revision, work, settles=True)


def trial(bench: Workbench, track_id: str, rules: Mapping[str, Mapping[str, Any]]) -> TrialView:
    """What other values of the rules would make of the dips. Nothing is changed."""
    with bench.database.reading() as db:
        marks = state_of(bench, db, *owners_of_track(db, track_id), rules).marks
    kinds = [OF_NAME[kind].code for kind in rules]
    chosen = np.flatnonzero(np.isin(marks.arrays.kind, kinds)).tolist()
    return TrialView(marks=[marks.ids[i] for i in chosen], depth=marks.draft.dips.depth[chosen].tolist())


def set_depth(
    bench: Workbench,
    track_id: str,
    revision: int,
    ids: list[str],
    by: float | None = None,
    to: float | None = None,
    silent: bool = False,
) -> Changed:
    """Deepen or ease dips by ``by`` dB, set their depth to ``to`` dB (0 or less), or silence them. They are on from then on."""
    if (by is not None) + (to is not None) + silent != 1:
        raise Refused("Give a change in dB, a target depth, or silence.")

    def work(edit: Edit, track: Track, timeline: Timeline, state: TrackState) -> None:
        marks = state.marks
        places = _free(edit, state, ids)
        for place in places:
            row = row_of_mark(edit, track, timeline, state, place)
            now, is_on = float(marks.draft.dips.depth[place]), bool(marks.applied[place])
            row.keep = "in"
            if silent:
                row.offset = float(SILENT_DIP)
                continue
            if by is not None and by < 0 and not is_on and now < 0:
                # the first step down takes what the rule proposes
                continue
            # from nothing, the first step down is the shallowest dip there is
            # silence is left for the rule's own depth, or for what is said
            now = float(marks.draft.base[place]) if now <= SILENT_DIP else now
            wanted = min(now if is_on else 0.0, 0.0) + by if by is not None else to or 0.0
            wanted = min(wanted, LEAST_DIP) if by is not None and by < 0 else min(wanted, 0.0)
            row.offset = round(wanted - float(marks.draft.base[place]), 2) + 0.0
        what = _names(marks, places)
        if silent:
            edit.label = f"{what} silent"
            return
        edit.label = f"{what} by {by:+.1f} dB" if by is not None else f"{what} to {to or 0.0:+.1f} dB"

    return _run(bench, track_id, revision, work)


def set_keep(bench: Workbench, track_id: str, revision: int, ids: list[str], keep: str) -> Changed:
    """Keep marks out of their rule, in whatever its switch says, or let the rule decide again."""

    def work(edit: Edit, track: Track, timeline: Timeline, state: TrackState) -> None:
        marks = state.marks
        places = _free(edit, state, ids)
        for place in places:
            row_of_mark(edit, track, timeline, state, place).keep = keep
        verb = {"out": "Keep out", "in": "Take in", "rule": "By the rule:"}[keep]
        edit.label = f"{verb} {_names(marks, places)}"

    return _run(bench, track_id, revision, work)


def set_shape(bench: Workbench, track_id: str, revision: int, ids: list[str], notch: bool) -> Changed:
    """Make dips notches, deepest in the middle, or flat again."""

    def work(edit: Edit, track: Track, timeline: Timeline, state: TrackState) -> None:
        marks = state.marks
        places = _free(edit, state, ids)
        for place in places:
            row_of_mark(edit, track, timeline, state, place).notch = notch
        edit.label = f"{'Notch' if notch else 'Flat'}: {_names(marks, places)}"

    return _run(bench, track_id, revision, work)


def set_edges(
    bench: Workbench,
    track_id: str,
    revision: int,
    id: str,
    start: float | None = None,
    end: float | None = None,
    ramp_in: float | None = None,
    ramp_out: float | None = None,
) -> Changed:
    """Move the edges of a dip (seconds, where it is at its depth) or set the length of its ramps (seconds)."""

    def work(edit: Edit, track: Track, timeline: Timeline, state: TrackState) -> None:
        marks = state.marks
        (place,) = _free(edit, state, [id])
        rate, dips = timeline.sample_rate, marks.draft.dips
        row = row_of_mark(edit, track, timeline, state, place)
        if start is not None or end is not None:
            a, b = edges_within(timeline, start, end, float(dips.start[place]) / rate, float(dips.end[place]) / rate)
            row.dip_start = a - row.shift if start is not None else row.dip_start
            row.dip_end = b - row.shift if end is not None else row.dip_end
        row.ramp_in = row.ramp_in if ramp_in is None else min(ramp_in, LONGEST_RAMP)
        row.ramp_out = row.ramp_out if ramp_out is None else min(ramp_out, LONGEST_RAMP)
        edit.label = f"Edges of {_names(marks, [place])}"

    return _run(bench, track_id, revision, work)


def correct(
    bench: Workbench,
    track_id: str,
    revision: int,
    ids: list[str],
    kind: str | None = None,
    start: float | None = None,
    end: float | None = None,
    gone: bool = False,
) -> Changed:
    """Say what marks really are: of another kind, with other edges (seconds, one mark), or no marks at all."""
    if (start is not None or end is not None) and len(ids) != 1:
        raise Refused("Move the edges of one mark at a time.")

    def work(edit: Edit, track: Track, timeline: Timeline, state: TrackState) -> None:
        marks = state.marks
        places = _free(edit, state, ids)
        what, rate = _names(marks, places), timeline.sample_rate
        for place in places:
            row = row_of_mark(edit, track, timeline, state, place)
            if gone:
                if row.found is None:
                    edit.db.delete(row)
                else:
                    row.gone = True
                continue
            if start is not None or end is not None:
                now = (row.start + row.shift) / rate, (row.end + row.shift) / rate
                a, b = edges_within(timeline, start, end, *now)
                row.start, row.end = a - row.shift, b - row.shift
                row.dip_start = row.dip_end = None
            row.kind = kind or row.kind
            row.moved = True
            measure_row(row, timeline, state)
        if gone:
            edit.label = f"Not a mark: {what}"
        else:
            edit.label = f"{what}: a {kind}" if kind else f"Edges of {what}"

    return _run(bench, track_id, revision, work)


def make(
    bench: Workbench,
    track_id: str,
    revision: int,
    kind: str,
    start: float,
    end: float,
    depth: float | None = None,
    silent: bool = False,
) -> Changed:
    """Make a mark, or a free dip, over a span of seconds by hand.

    A free dip goes down by 6 dB, by ``depth``, or all the way where it is to be ``silent``.
    """

    def work(edit: Edit, track: Track, timeline: Timeline, state: TrackState) -> None:
        a, b = edges_within(timeline, start, end, start, end)
        run = run_here(timeline, (a + b) / 2)
        a, b = max(a, run.start), min(b, run.end)
        row = Detail(track_id=track.id, kind=kind, start=a, end=b, level=0.0, keep="in")
        if any(_are_locked(state, np.array([(a + b) / 2]))):
            raise Locked("This phrase is locked.")
        if kind == FREE.name:
            row.offset = float(SILENT_DIP) if silent else -6.0 if depth is None else depth
            # what was drawn is the whole of the dip: its ramps lie inside
            ramp = min(FREE.ramps[0], (b - a) / timeline.sample_rate / 3)
            row.ramp_in = row.ramp_out = ramp
            row.dip_start, row.dip_end = a + round(ramp * timeline.sample_rate), b - round(ramp * timeline.sample_rate)
        hand = measured(state, Hand(*(getattr(row, name) for name in Hand._fields)), timeline.shows_esses)
        made_row(edit, track, timeline, hand)
        edit.label = "Silence a span" if silent else f"Make a {kind}"

    return _run(bench, track_id, revision, work)


def reset(bench: Workbench, track_id: str, revision: int, ids: list[str]) -> Changed:
    """Forget what the hand did to marks: those that were found are as they were, those made by hand go."""

    def work(edit: Edit, track: Track, timeline: Timeline, state: TrackState) -> None:
        marks = state.marks
        places = [place for place in _free(edit, state, ids) if marks.by_hand[place] is not None]
        if not places:
            raise Refused("Nothing was done by hand here.")
        for place in places:
            edit.db.delete(row_of_mark(edit, track, timeline, state, place))
        edit.label = f"Back to the rule: {_names(marks, places)}"

    return _run(bench, track_id, revision, work)


def find_again(bench: Workbench, track_id: str, revision: int) -> Changed:
    """Find the details of a track anew, in and between its phrases as they are now. What the hand did stays."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        measurable(timeline)
        for id in dict.fromkeys(run.recording for run in timeline.runs):
            grid = bench.vault.grid(timeline.recorded(id))
            phrases = phrases_of(edit.db, track, timeline.sample_rate, id)
            put_found(edit, track, timeline, id, find_details(grid, phrases))
        edit.label = "Find the details again"

    return run_edit(bench, track_id, "Find the details again", revision, work)


def _run(bench: Workbench, track_id: str, revision: int, work: Work) -> Changed:
    def run(edit: Edit, track: Track, timeline: Timeline) -> None:
        stands_alone(edit.db, track)
        work(edit, track, timeline, state_of(bench, edit.db, edit.session, track, timeline))

    return run_edit(bench, track_id, "Details", revision, run, settles=True)


def _free(edit: Edit, state: TrackState, ids: Collection[str]) -> list[int]:
    """The places of marks that may be worked on. Raises NotFound, and Refused where all of them are locked."""
    marks = state.marks
    places = marks.at(list(dict.fromkeys(ids)))
    if not places:
        raise NotFound("This mark no longer exists.")
    middles = (marks.arrays.start + marks.arrays.end)[places] / 2
    free = [place for place, held in zip(places, _are_locked(state, middles), strict=True) if not held]
    if not free:
        raise Locked("What is selected lies in a locked phrase.")
    touched = [row.id for place in free if (row := marks.by_hand[place]) is not None]
    load_details(edit.db, touched)
    return free


def _are_locked(state: TrackState, at: FloatArray) -> list[bool]:
    """Whether the clips at some samples (n,) are locked."""
    return [bool(locked) for locked in state.clips.locked[state.clips.at(at)]]


def _names(marks: TrackMarks, places: list[int]) -> str:
    kinds = {OF_CODE[int(marks.arrays.kind[place])] for place in places}
    count = len(places)
    if len(kinds) > 1:
        return f"{count} details"
    (kind,) = kinds
    return f"1 {kind.name}" if count == 1 else f"{count} {kind.plural}"
