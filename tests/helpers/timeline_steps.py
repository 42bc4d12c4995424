"""Every edit of a timeline once, for tests."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from nivelus.services.clips import clips, details, moves, phrases, takes
from nivelus.services.lanes import drawing
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed, ClipView
from tests.conftest import RATE
from tests.helpers.timelines import voiced

Step = Callable[[Changed], Changed]


def plain_of(samples: np.ndarray, clip: ClipView) -> np.ndarray:
    return samples[round(clip.start * RATE) : round(clip.end * RATE)]


def steps(bench: Workbench, session: str, detail: str, other: str) -> list[Step]:
    """Every edit of a timeline, on whatever lies there."""

    def some(state: Changed, track: str, place: int) -> str:
        own = voiced(state, track)
        return own[min(place, len(own) - 1)].id

    return [
        lambda s: moves.move(bench, detail, s.revision, [some(s, detail, 1)], 4.0),
        lambda s: moves.move(bench, detail, s.revision, [some(s, detail, 0)], 0.777),
        lambda s: moves.paste(bench, detail, s.revision, detail, [some(s, detail, 0), some(s, detail, 1)], 12.0),
        lambda s: moves.paste(bench, detail, s.revision, other, [some(s, other, 0)], 3.3),
        lambda s: details.find_again(bench, detail, s.revision),
        lambda s: clips.cut(bench, detail, s.revision, 12.0 + 1.0),
        lambda s: moves.trim(bench, detail, s.revision, some(s, detail, 9), "end", 60.0),
        lambda s: moves.move(bench, other, s.revision, [some(s, other, 0)], 0.0, to_track=detail, to_take=-1),
        lambda s: drawing.lift_span(bench, detail, s.revision, "curve", 12.2, 12.8, -2.0),
        lambda s: takes.rename(bench, detail, s.revision, 1, "The other one"),
        lambda s: takes.match(bench, detail, s.revision),
        lambda s: takes.switch(bench, detail, s.revision, 1),
        lambda s: moves.move(bench, detail, s.revision, [some(s, detail, 0)], 1.0),
        lambda s: takes.switch(bench, detail, s.revision, 0),
        lambda s: moves.take_out(bench, detail, s.revision, [some(s, detail, 0)]),
        lambda s: phrases.find_again(bench, detail, s.revision),
        lambda s: details.set_rule(bench, detail, s.revision, "breath", {"on": True}),
        lambda s: takes.remove(bench, detail, s.revision, 1),
        lambda s: moves.bring_home(bench, detail, s.revision, [next(c.id for c in voiced(s, detail) if c.shift)]),
    ]
