"""The use cases of load: what a compressor behind the pre-fader gain would have to do, before levelling and after it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, replace
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt

from nivelus.core.chain.order import order
from nivelus.core.chain.state import TrackState
from nivelus.core.dynamics.compressor import Compressor
from nivelus.core.dynamics.detector import STEP, Side, Worked, reduction_of, work_on_all
from nivelus.core.dynamics.load import HARD, LoadFigures, by_phrase, load_figures, threshold_for
from nivelus.core.errors import Refused, Stale
from nivelus.core.gain.compiled import GainCurve
from nivelus.core.sound.refusals import RATES
from nivelus.core.sound.source import SoundSource
from nivelus.core.sound.timeline import open_sound
from nivelus.services.answers.edits import run_edit
from nivelus.services.track.latest import Newest
from nivelus.services.track.sound import MOST_SAMPLES
from nivelus.services.track.state import whole_state
from nivelus.services.track.timeline import Timeline, sound_of
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.mix import LoadFiguresView, LoadPhrase, LoadView, OrderView
from nivelus.services.views.mix_settings import load_settings
from nivelus.services.views.session import Changed, LoadSettings
from nivelus.store.editing import Edit
from nivelus.store.tables import Track

COURSE_SECONDS = 0.05
"""Between two values of a course of the reduction."""
_worked: Newest[Worked] = Newest(4)
_views: Newest[LoadView] = Newest(8)


def change(bench: Workbench, track_id: str, revision: int, values: dict[str, Any]) -> Changed:
    """Set values of the compressor; what is not named stays. ``threshold_after`` of None is the same as before."""

    def work(edit: Edit, track: Track, timeline: Timeline) -> None:
        settings = load_settings(track).model_copy(update=values)
        compressors_of(settings)
        track.load = settings.model_dump()

    return run_edit(bench, track_id, "Set the compressor", revision, work)


def view(bench: Workbench, track_id: str, wanted: float | None = None) -> LoadView:
    """How hard the compressor works before and after, and how much more evenly it works at an equal average.

    ``wanted`` is the average (dB) that a threshold is proposed for; that of before if not given. O(samples), and kept by what
    it is of.
    """
    with bench.database.reading() as db:
        _, track, timeline, state, _ = whole_state(bench, db, track_id)
    settings = load_settings(track)
    judged = tuple(state.clips.ids[place] for place in state.clips.judged.tolist())
    key = timeline.key, _hash(state.gain), settings.model_dump_json(), wanted, hash((judged, state.spoken.tobytes()))
    return _views.get(key, lambda: _view_of(bench, timeline, state, settings, wanted))


def _view_of(bench: Workbench, timeline: Timeline, state: TrackState, settings: LoadSettings, wanted: float | None) -> LoadView:
    opener, clips, spans = _opener(bench, timeline), state.clips, state.spoken
    # what follows another track has its figures while that one speaks, and no phrases to be told of
    ids = [clips.ids[place] for place in clips.judged.tolist()]
    of_after = compressors_of(settings)[1]
    worked = _sides(opener, timeline, state, settings)
    before, after = (side.reduction for side in worked)
    figures = [load_figures(reduction, spans) for reduction in (before, after)]
    goal = figures[0].average if wanted is None else wanted
    proposed, steady = of_after.threshold, figures[1]
    if len(spans) and goal > 0:
        proposed, there = threshold_for(opener, state.gain, of_after, spans, goal, worked[1])
        steady = load_figures(there, spans)
    return LoadView(
        settings=settings,
        before=_view(figures[0]),
        after=_view(figures[1]),
        proposed=proposed,
        at_proposed=_view(steady),
        phrases=[
            LoadPhrase(clip=id, before=old, after=new, hard=new > figures[1].average + HARD)
            for id, old, new in zip(ids, *(by_phrase(r, spans).tolist() for r in (before, after)), strict=True)
        ]
        if ids
        else [],
        order=OrderView(**asdict(order(state, before, after, spans))) if len(ids) > 1 else None,
    )


def course(bench: Workbench, track_id: str) -> npt.NDArray[np.float32]:
    """Highest reduction in every COURSE_SECONDS, before and after, (n, 2) float32 dB."""
    with bench.database.reading() as db:
        _, track, timeline, state, _ = whole_state(bench, db, track_id)
    settings = load_settings(track)
    sides = []
    for reduction in (side.reduction for side in _sides(_opener(bench, timeline), timeline, state, settings)):
        edges = np.arange(0, timeline.frames / STEP, COURSE_SECONDS * timeline.sample_rate / STEP).astype(np.int64)
        sides.append(np.maximum.reduceat(reduction, np.minimum(edges, len(reduction) - 1)))
    return np.stack(sides, axis=1).astype(np.float32)


def reduction(
    bench: Workbench, track_id: str, key: str, start: int, count: int, rate: int, take: int | None = None
) -> npt.NDArray[np.float32]:
    """What the compressor does to a stretch, as it is heard: (n, 2) float32 dB before and after, make-up included.

    ``start`` and ``count`` are samples at ``rate``; values are at every STEP of them, from the last one at or before ``start``
    to the first one at or after the end.
    """
    if not 0 < count <= MOST_SAMPLES or start < 0 or not RATES[0] <= rate <= RATES[1]:
        raise Refused(f"Ask for 1 to {MOST_SAMPLES} samples.")
    with bench.database.reading() as db:
        _, track, timeline, state, _ = whole_state(bench, db, track_id, take)
    if timeline.key != key:
        raise Stale("This track was changed. It is shown as it is now.", id=track_id)
    gain = scaled(state.gain, rate / timeline.sample_rate)
    opener, settings = _opener(bench, timeline, rate), load_settings(track)
    first, last = start // STEP, -(-(start + count) // STEP)
    out = np.zeros((last - first + 1, 2), np.float32)
    for column, (compressor, own) in enumerate(zip(compressors_of(settings), (None, gain), strict=True)):
        with opener() as source:
            values = reduction_of(source, own, compressor, first * STEP, last * STEP + 1)
        out[: len(values), column] = -values
        if len(values):
            out[len(values) :, column] = -values[-1]
        out[:, column] += compressor.makeup
    return out


def scaled(curve: GainCurve, factor: float) -> GainCurve:
    """A gain in samples of another rate."""
    return curve if factor == 1 else GainCurve(curve.at * factor, curve.db)


# ---


def compressors_of(settings: LoadSettings) -> tuple[Compressor, Compressor]:
    """The compressor before and after levelling. Raises GainError where it cannot be."""
    values = settings.model_dump()
    own = values.pop("threshold_after")
    before = Compressor(**values)
    return before, before if own is None else replace(before, threshold=own)


def _opener(bench: Workbench, timeline: Timeline, rate: int | None = None) -> Callable[[], SoundSource]:
    return partial(open_sound, sound_of(bench, timeline), rate)


def _sides(
    opener: Callable[[], SoundSource], timeline: Timeline, state: TrackState, settings: LoadSettings
) -> tuple[Worked, Worked]:
    """What the compressor does to a whole track without its gain and with it: what is not known of it is worked out at once."""
    compressors, gains = [replace(own, makeup=0.0) for own in compressors_of(settings)], (None, state.gain)
    keys = [(timeline.key, None if gain is None else _hash(gain), own) for gain, own in zip(gains, compressors, strict=True)]
    known = [_worked.known(key) for key in keys]
    missing = [i for i, worked in enumerate(known) if worked is None]
    if missing:
        # but for their thresholds the compressors are the same
        sides = [Side(gains[i], (compressors[i].threshold,)) for i in missing]
        for i, (worked,) in zip(missing, work_on_all(opener, sides, compressors[0]), strict=True):
            known[i] = _worked.keep(keys[i], worked)
    before, after = known
    assert before is not None
    assert after is not None
    return before, after


def _hash(gain: GainCurve) -> int:
    return hash((gain.at.tobytes(), gain.db.tobytes()))


def _view(figures: LoadFigures) -> LoadFiguresView:
    over3, over6, over10 = figures.beyond
    return LoadFiguresView(
        average=figures.average, spread=figures.spread, highest=figures.highest, over3=over3, over6=over6, over10=over10
    )
