"""Edits of every kind with random objects and numbers, as a person in a hurry might make them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from nivelus.core.errors import NivelusError
from nivelus.services.clips import arranging, clips, details, drafts, following, moves, phrases, takes
from nivelus.services.lanes import drawing, passes, rides, whole
from nivelus.services.mix import balance, load
from nivelus.services.sessions import sessions, tracks
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed, ClipView
from tests.helpers.answers import every_mark
from tests.helpers.riding import AS_IT_COMES, ride
from tests.helpers.riding import moves as hand_moves

Act = Callable[[], Changed]


class RandomEdits:
    """Makes edits of one session, each from its present state."""

    def __init__(self, bench: Workbench, session: str, seed: int) -> None:
        self.bench, self.session = bench, session
        self.random = np.random.default_rng(seed)

    def next(self, state: Changed) -> tuple[str, Changed | None]:
        """Make an edit; its kind, and its answer, None where it was refused with a sentence."""
        acts = self.acts(state)
        kind = str(self.random.choice(sorted(acts)))
        try:
            return kind, acts[kind]()
        except NivelusError:
            return kind, None

    def acts(self, state: Changed) -> dict[str, Act]:
        """One edit of every kind."""
        random, bench, revision = self.random, self.bench, state.revision
        track = state.tracks[int(random.integers(len(state.tracks)))]
        other = state.tracks[int(random.integers(len(state.tracks)))].id
        own = [clip for clip in state.clips if clip.track == track.id]
        marks = [mark for mark in every_mark(state.model_dump()) if mark["track"] == track.id]
        id, end = track.id, track.timeline.duration
        lane = str(random.choice(["curve", "ride", "trim"]))
        take = int(random.choice([item.number for item in track.takes]))

        def db(low: float = -9.0, high: float = 6.0) -> float:
            return round(float(random.uniform(low, high)), 2)

        def at() -> float:
            # now and then where something is already, and a microsecond or a sample beside it
            edges = [edge for clip in own for edge in (clip.start, clip.end)]
            if edges and random.random() < 0.5:
                return float(random.choice(edges) + random.choice([0.0, 1e-6, -1e-6, 1 / 48_000, 1e-4, 0.3]))
            return round(float(random.uniform(0, end)), 6)

        def span() -> tuple[float, float]:
            first = at()
            return first, first + float(random.choice([1e-6, 1e-4, 0.02, 0.3, 1.0, 3.0]))

        def some(items: list[str]) -> list[str]:
            count = int(random.integers(1, 4))
            return [str(id) for id in random.choice(items, min(count, len(items)), replace=False)] if items else ["none"]

        def one(items: list[str]) -> str:
            return some(items)[0]

        ids, mark_ids = [clip.id for clip in own], [mark["id"] for mark in marks]

        def flag() -> bool:
            return bool(random.random() < 0.5)

        def points() -> list[str]:
            return some([point.id for point in getattr(rides.view(bench, id), lane)])

        def kept_pass() -> Changed:
            first = round(float(random.uniform(0, max(end - 1.0, 0.1))), 3)
            made = ride(bench, id, hand_moves((first, 0.0), (first + 0.3, db()), (first + 0.8, db())), lane=lane)
            return passes.keep(bench, made, revision, AS_IT_COMES, as_clip_gain=lane == "ride" and flag())

        def correct() -> Changed:
            a, b = span()
            return details.correct(bench, id, revision, [one(mark_ids)], start=a, end=b)

        def corrected_into_another() -> Changed:
            # from one gap, or breath, over another
            if not marks:
                return correct()
            a, b = (marks[int(place)] for place in random.integers(0, len(marks), 2))
            return details.correct(bench, id, revision, [a["id"]], start=b["start"] + 0.01, end=b["end"] + 0.05)

        def by_samples() -> float:
            return float(random.integers(1, 50)) / 48_000

        kinds = ["breath", "ess", "knock", "gap"]
        rule = str(random.choice(kinds))
        ways = [
            lambda: clips.set_gain(bench, id, revision, some(ids), by=db()),
            lambda: clips.set_gain(bench, id, revision, some(ids), to=db()),
        ]
        return {
            "gain": ways[int(random.integers(2))],
            "flag": lambda: clips.set_flag(
                bench, id, revision, some(ids), str(random.choice(["locked", "left_out", "reference"])), flag()
            ),
            "label": lambda: clips.set_label(bench, id, revision, one(ids), f"Line {random.integers(99)}"),
            "cut": lambda: clips.cut(bench, id, revision, at()),
            "join": lambda: clips.join(bench, id, revision, _neighbours(own, random)),
            "border": lambda: clips.move_border(bench, id, revision, one(ids), at()),
            "draft": lambda: drafts.accept(bench, id, revision, peaks=flag()),
            "find phrases": lambda: phrases.find_again(bench, id, revision),
            "dip rule": lambda: details.set_rule(bench, id, revision, rule, {"on": flag(), "depth": db(-12, -1)}),
            "dip to silence": lambda: details.set_rule(
                bench, id, revision, "gap", {"silent": flag(), "even": flag(), "closes": 0.2}
            ),
            "dip depth": lambda: details.set_depth(bench, id, revision, some(mark_ids), by=db(-6, 3)),
            "dip to": lambda: details.set_depth(bench, id, revision, some(mark_ids), to=db(-20, 0)),
            "keep": lambda: details.set_keep(bench, id, revision, some(mark_ids), str(random.choice(["in", "out", "rule"]))),
            "notch": lambda: details.set_shape(bench, id, revision, some(mark_ids), flag()),
            "dip edges": lambda: details.set_edges(bench, id, revision, one(mark_ids), *sorted((at(), at()))),
            "dip ramp": lambda: details.set_edges(bench, id, revision, one(mark_ids), ramp_in=abs(db()) / 10),
            "mark edges": correct,
            "mark over another": corrected_into_another,
            "mark kind": lambda: details.correct(bench, id, revision, some(mark_ids), kind=str(random.choice(kinds))),
            "no mark": lambda: details.correct(bench, id, revision, some(mark_ids), gone=True),
            "make mark": lambda: details.make(bench, id, revision, str(random.choice([*kinds, "dip"])), *span()),
            "reset": lambda: details.reset(bench, id, revision, some([m["id"] for m in marks if m["by_hand"]] or mark_ids)),
            "find details": lambda: details.find_again(bench, id, revision),
            "lift": lambda: drawing.lift_span(bench, id, revision, lane, *span(), db()),
            "delete range": lambda: drawing.delete_range(bench, id, revision, lane, *span()),
            "smooth": lambda: drawing.change_range(bench, id, revision, lane, *span(), "smooth"),
            "thin": lambda: drawing.change_range(bench, id, revision, lane, *span(), "thin"),
            "scale": lambda: drawing.scale_range(bench, id, revision, lane, *span(), float(random.uniform(0, 2)), None),
            "borders": lambda: drawing.make_borders(bench, id, revision, lane, [span(), span()], flag()),
            "line": lambda: drawing.draw_line(bench, id, revision, lane, [(at(), db()) for _ in range(6)]),
            "paste range": lambda: drawing.paste_range(bench, id, revision, lane, at(), *span(), (other, "ride")),
            "point": lambda: drawing.put_point(bench, id, revision, lane, at(), db()),
            "twin points": lambda: drawing.put_point(bench, id, revision, "curve", at() + 1e-6, db()),
            "move points": lambda: drawing.change_points(
                bench, id, revision, lane, points(), seconds=float(random.normal(0, 0.01)), by=db()
            ),
            "set points": lambda: drawing.change_points(bench, id, revision, lane, points(), to=db(), shape="smooth"),
            "delete points": lambda: drawing.change_points(bench, id, revision, lane, points(), gone=True),
            "clear lane": lambda: whole.clear(bench, id, revision, lane),
            "trim": lambda: whole.set_trim(bench, id, revision, db()),
            "trim off": lambda: whole.set_trim(bench, id, revision, off=flag()),
            "hand over": lambda: whole.hand_over(bench, id, revision, lane, str(random.choice(["curve", "ride", "trim"]))),
            "hand a span over": lambda: whole.hand_over(bench, id, revision, lane, "curve", span()),
            "range": lambda: whole.set_range(bench, id, revision, -abs(db()) - 1, abs(db()) + 1),
            "ride": lambda: rides.accept(bench, id, revision),
            "pass": kept_pass,
            "compressor": lambda: load.change(bench, id, revision, {"threshold": db(-40, -10)}),
            "kind": lambda: tracks.set_kind(bench, id, revision, "bed" if track.kind == "voice" else "voice"),
            "duck": lambda: balance.accept(bench, id, revision, {"depth": -abs(db()) - 0.1}),
            "lock span": lambda: balance.lock(bench, id, revision, *span(), flag()),
            "slow ride": lambda: balance.accept_slowly(bench, id, revision),
            "fader": lambda: tracks.set_fader(bench, id, revision, db()),
            "mute": lambda: tracks.set_heard(bench, id, revision, "mute", flag()),
            "rename": lambda: tracks.rename(bench, id, revision, f"Voice {random.integers(9)}"),
            "move": lambda: moves.move(bench, id, revision, some(ids), db(-2, 2)),
            "move by samples": lambda: moves.move(bench, id, revision, some(ids), by_samples()),
            "move away": lambda: moves.move(bench, id, revision, some(ids), db(-2, 2), other, None),
            "to a take": lambda: moves.move(bench, id, revision, some(ids), 0.0, id, take),
            "copy": lambda: moves.paste(bench, id, revision, id, some(ids), at()),
            "copy by samples": lambda: moves.paste(
                bench, id, revision, id, ids[:1] or ["none"], (own[0].start if own else 0.0) + by_samples()
            ),
            "copy to another": lambda: moves.paste(bench, other, revision, id, some(ids), at()),
            "take out": lambda: moves.take_out(bench, id, revision, some(ids)),
            "close gap": lambda: moves.close_gap(bench, id, revision, one(ids)),
            "home": lambda: moves.bring_home(bench, id, revision, some(ids)),
            "trim clip": lambda: moves.trim(bench, id, revision, one(ids), str(random.choice(["start", "end"])), at()),
            "take": lambda: takes.switch(bench, id, revision, take),
            "choose": lambda: takes.choose(bench, id, revision, one(ids), take),
            "match": lambda: takes.match(bench, id, revision),
            "lay out": lambda: (
                arranging.arrange(bench, self.session, revision, [id, other], str(random.choice(["takes", "after"])))
                if len(state.tracks) > 2
                else clips.cut(bench, id, revision, at())
            ),
            "follow": lambda: following.follow(bench, id, revision, other),
            "stand alone": lambda: following.stand_alone(bench, id, revision),
            "begin together": lambda: following.begin_together(bench, id, revision),
            "duplicate": lambda: (
                tracks.duplicate(bench, id, revision)
                if len(state.tracks) < 4
                else following.remove(bench, id, revision, other if flag() else None)
            ),
            "session rule": lambda: sessions.update(bench, self.session, revision, {"target": db(-30, -10)}),
            "unit": lambda: sessions.update(
                bench, self.session, revision, {"unit": str(random.choice(["loudness", "rms", "peak"]))}
            ),
            "undo": lambda: sessions.undo(bench, self.session, revision),
            "redo": lambda: sessions.redo(bench, self.session, revision),
        }


def _neighbours(clips: list[ClipView], random: np.random.Generator) -> list[str]:
    """Two clips that follow each other."""
    if len(clips) < 2:
        return ["none"]
    ordered = sorted(clips, key=lambda clip: clip.start)
    place = int(random.integers(len(ordered) - 1))
    return [clip.id for clip in ordered[place : place + 2]]
