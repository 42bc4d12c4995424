"""The state of a track: one chain from what was found and done to the gain that is heard, measured, drawn and rendered.

    clips, marks, lanes -> layers -> gain -> gain per frame -> levels

Everything that asks how a track sounds asks a ``TrackState``: pages, drafts, playback, renders and the command line. It is
lazy: what nobody asks for is not worked out, and what dips, clip curves and lanes compile to is kept for the next state that
has the same ones.

Conventions
-----------
Positions are samples of the track, gains dB. Levels are in the unit that the session judges by.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from nivelus.core.chain.clips import ClipTable, frame_spans
from nivelus.core.chain.marks import FoundMarks, Hands, Rules, TrackMarks, marks_of
from nivelus.core.gain.clip_curves import join_clip_curves
from nivelus.core.gain.clips import DECLICK_SECONDS, ClipSpans, Ways, compile_clip_gains, ways
from nivelus.core.gain.compile import compile_curves
from nivelus.core.gain.compiled import FloatArray, GainCurve, add_curves, frame_gain, span_gain
from nivelus.core.gain.drawn import EMPTY, SILENT, Curve, curve_of
from nivelus.core.marks.mark import which
from nivelus.core.measure.grid import LevelGrid, all_borders
from nivelus.core.measure.spans import levels_of_spans, moved_by_gain

LAYERS = ("clip", "curve", "dips", "ride", "trim")
"""The layers of pre-fader gain, in the order of the signal path."""
TRACK_LANES = ("ride", "trim")
LANES = ("curve", *TRACK_LANES)
"""Everything that is drawn, in the order of the signal path; "curve" is that of the clips."""
WIDEST = SILENT, np.inf
"""dB of a working range that keeps nothing down."""
_IS_HIGH = which(lambda kind: kind.band == "high")
_AGAINST_PHRASE = which(lambda kind: kind.against == "phrase")
_AGAINST_USUAL = which(lambda kind: kind.against == "usual")
"""What is asked of a kind, by its code."""
Places = npt.NDArray[np.int64]


class Lane(NamedTuple):
    """A lane of a track: its points, the offset on all of it, and whether it is switched off."""

    points: Curve = EMPTY
    offset: float = 0.0
    off: bool = False

    @property
    def is_drawn(self) -> bool:
        """Whether there is anything in it, be it on or off."""
        return bool(len(self.points)) or self.offset != 0.0

    def curve(self) -> Curve:
        """The lane as one curve: its points, moved by its offset."""
        if self.offset == 0.0:
            return self.points
        if len(self.points):
            return replace(self.points, db=self.points.db + self.offset)
        return curve_of([(0.0, self.offset)])

    def heard(self) -> Curve:
        """What the lane does: nothing while it is off."""
        return EMPTY if self.off else self.curve()


class Lanes(NamedTuple):
    """The lanes of a track."""

    ride: Lane = Lane()
    trim: Lane = Lane()


NO_LANES, NO_HANDS = Lanes(), Hands()


@dataclass(frozen=True, eq=False)
class TrackState:
    """All of a track that its sound depends on before the fader.

    ``found``, ``hands`` and ``rules`` make its marks, see ``chain.marks``. ``within`` is the dB that everything drawn is kept
    between. ``grid`` is None where the sound is missing: then clip gain is all that is known of levels. ``unit`` is one of
    UNITS, and ``offset`` what is added to levels because a mono voice counts as two loudspeakers.
    """

    grid: LevelGrid | None
    rate: int
    samples: int
    clips: ClipTable
    found: FoundMarks
    hands: Hands = NO_HANDS
    rules: Rules = ()
    lanes: Lanes = NO_LANES
    within: tuple[float, float] = WIDEST
    unit: str = "loudness"
    offset: float = 0.0

    # --- gain

    @cached_property
    def marks(self) -> TrackMarks:
        """The marks and their dips."""
        return marks_of(self.clips, self.found, self.hands, self.rules, self.rate, self.samples)

    @cached_property
    def breaths(self) -> FloatArray:
        """Where the breaths are, samples, (n, 2) in order."""
        return self.marks.arrays.breaths

    @cached_property
    def ways(self) -> Ways:
        """Where each clip's gain gives way to that of the next."""
        return ways(self.clips.spans, self.rate, self.breaths)

    @property
    def dips(self) -> GainCurve:
        """The gain of the dips that are on."""
        return self.marks.curve

    @property
    def clip_curves(self) -> GainCurve | None:
        """The compiled clip curves; None where nothing is drawn on a clip."""
        return _compiled_clips(*self._curve_key, *self.within) if self.clips.has_curves else None

    @property
    def drawn_lanes(self) -> list[str]:
        """The names of the LANES in which something is drawn."""
        own = ["curve"] if self.clips.has_curves else []
        return own + [name for name in TRACK_LANES if getattr(self.lanes, name).is_drawn]

    def drawn(self, names: Collection[str] = TRACK_LANES) -> GainCurve | None:
        """The compiled gain of some lanes of the track; None where they do nothing."""
        lanes = [getattr(self.lanes, name) for name in TRACK_LANES if name in names]
        heard = tuple(lane for lane in lanes if lane.is_drawn and not lane.off)
        return _compiled(heard, self.rate, *self.within) if heard else None

    @cached_property
    def clip_gain(self) -> GainCurve:
        """The compiled gain of the clips."""
        return compile_clip_gains(self.clips.spans, self.clips.gain, self.rate, self.breaths)

    @cached_property
    def before_ride(self) -> GainCurve:
        """Dips and clip curves: what a phrase is judged and ridden with, besides its gain."""
        return _sum(self.dips, self.clip_curves)

    @cached_property
    def beyond(self) -> GainCurve:
        """All gain beyond that of the clips."""
        return _sum(self.before_ride, self.drawn())

    @cached_property
    def curves(self) -> GainCurve | None:
        """What is drawn on clips and track: it moves a detail as much as its neighbours."""
        own, drawn = self.clip_curves, self.drawn()
        return _sum(own, drawn) if own is not None else drawn

    @cached_property
    def gain(self) -> GainCurve:
        """The pre-fader gain."""
        return add_curves([self.clip_gain, self.beyond])

    @cached_property
    def gain_per_frame(self) -> FloatArray:
        """The pre-fader gain in each frame of the grid, see ``core.gain.compiled.frame_gain``. O(frames)."""
        return self.per_frame(self.gain)

    def of_layers(self, layers: Collection[str]) -> GainCurve:
        """The sum of some of LAYERS."""
        curves = [self.clip_gain] if "clip" in layers else []
        own = self.clip_curves if "curve" in layers else None
        curves += [own] if own is not None else []
        curves += [self.dips] if "dips" in layers else []
        drawn = self.drawn(layers)
        curves += [drawn] if drawn is not None else []
        return add_curves(curves) if curves else GainCurve(np.zeros(1), np.zeros(1))

    def per_frame(self, curve: GainCurve) -> FloatArray:
        """A gain in each frame of the track."""
        return frame_gain(curve, self._borders)

    # --- levels

    @property
    def spoken(self) -> FloatArray:
        """Start and end of the phrases that count, samples, (n, 2)."""
        return self.clips.phrases_of(self.clips.judged)

    @cached_property
    def levels_before(self) -> FloatArray:
        """The level of every phrase before gain, NaN without one, (clips,)."""
        column = {"loudness": self.clips.loudness, "rms": self.clips.rms, "peak": self.clips.peak}[self.unit]
        return column + self.offset

    def levels_after(self, places: Places) -> FloatArray:
        """The level of the phrases of the clips at some places with all gain, (n,); NaN without a phrase.

        The ramps between clips lie in the pauses, so a phrase moves by exactly its gain; where a border was set so near to a
        phrase that the ramp reaches into it, and where there is gain beyond that of the clips, it is measured. O(frames).
        """
        after = (self.levels_before + self.clips.gain)[places]
        touched = np.flatnonzero(self._is_touched[places])
        if self.grid is not None and len(touched):
            after[touched] = self.levels_with(self.gain, places[touched])
        return after

    def off(self, places: Places, target: float) -> FloatArray:
        """How far the phrases of some clips lie from the target, (n,), without what was asked for in the trim."""
        return self.unwished.levels_after(places) - target

    def levels_asked(self, places: Places) -> tuple[FloatArray, FloatArray]:
        """The level of the phrases of some clips with all gain, and without what was asked for in the trim, (n,) each."""
        after = self.levels_after(places)
        return after, after if self.unwished is self else self.unwished.levels_after(places)

    @property
    def unwished(self) -> TrackState:
        """The track without its trim, which is a wish: what its evenness is judged by."""
        # what keeps itself is freed late
        return self if self.drawn(["trim"]) is None else self._without_trim

    @cached_property
    def _without_trim(self) -> TrackState:
        return replace(self, lanes=self.lanes._replace(trim=Lane()))

    def levels_with(self, curve: GainCurve, places: Places) -> FloatArray:
        """The level of the phrases of some clips under a gain; each of them has one. O(their frames)."""
        return self._measured(curve, self.clips.phrase_frames(self._grid, places), self.unit) + self.offset

    def peaks_with(self, curve: GainCurve, places: Places) -> FloatArray:
        """The true peak of some clips under a gain, dBTP. O(their frames)."""
        return self._measured(curve, self.clips.clip_frames(self._grid, places), "peak")

    @cached_property
    def stands_before(self) -> FloatArray:
        """How marks stand before gain by what matters for their kind, dB, (marks,).

        A breath against the RMS level of the phrase of its clip, an ess and a knock by their excess, a gap by its level in
        dBFS; a dip made by hand by its level. NaN where there is nothing to compare with.
        """
        arrays = self.marks.arrays
        owner = self.clips.at((arrays.start + arrays.end) / 2)
        is_breath, is_excess = self._kinds
        before = np.where(is_breath, arrays.level - self.clips.rms[owner], arrays.level)
        return np.where(is_excess, arrays.excess, before)

    def stands_after(self, places: Places) -> FloatArray:
        """The same after gain of the marks at some ``places``.

        What moves the phrase of a breath, or the voice around an ess or a knock, as much as them is no difference.
        """
        before = self.stands_before[places]
        if self.grid is None or not len(places):
            return before
        arrays = self.marks.arrays
        start, end = arrays.start[places], arrays.end[places]
        owner = self.clips.at((start + end) / 2)
        is_breath, is_excess = (which[places] for which in self._kinds)
        against = np.where(is_breath | is_excess, self.clips.gain[owner], 0.0)
        if self.curves is not None:
            at, db = self.curves.at, self.curves.db
            spans = self.clips.spans
            first = np.where(np.isnan(spans.phrase_start), spans.start, spans.phrase_start)[owner]
            last = np.where(np.isnan(spans.phrase_end), spans.end, spans.phrase_end)[owner]
            inside = first[:, None] + np.linspace(0.05, 0.95, 9) * (last - first)[:, None]
            around = np.where(is_breath, np.interp(inside, at, db).mean(axis=1), 0.0)
            around[is_excess] = np.interp((start + end)[is_excess] / 2, at, db)
            against += around
        moved = np.empty(len(places))
        is_high = _IS_HIGH[arrays.kind[places]]
        for column, wanted in (("plain", ~is_high), ("high", is_high)):
            frames = frame_spans(self.grid, start[wanted], end[wanted])
            gain = span_gain(self.gain, self._borders, frames)[:, 0]
            moved[wanted] = moved_by_gain(np.asarray(self.grid.column(column)), frames, gain)
        return before + moved - against

    # ---

    @property
    def _grid(self) -> LevelGrid:
        assert self.grid is not None
        return self.grid

    @property
    def _borders(self) -> npt.NDArray[np.int64]:
        return all_borders(self.samples, self.rate)

    @property
    def _curve_key(self) -> tuple[bytes, tuple[Curve, ...], int]:
        spans = self.clips.spans
        columns = np.stack([spans.start, spans.end, spans.phrase_start, spans.phrase_end])
        return columns.tobytes(), self.clips.curves, self.rate

    @cached_property
    def _kinds(self) -> tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]]:
        """Which marks are compared with their phrase, and which by their excess."""
        kind = self.marks.arrays.kind
        return _AGAINST_PHRASE[kind], _AGAINST_USUAL[kind]

    @cached_property
    def _is_touched(self) -> npt.NDArray[np.bool_]:
        """In the phrases of which clips anything but the clip's own gain changes something."""
        spans, gain = self.clips.spans, self.clips.gain
        reach = DECLICK_SECONDS * self.rate / 2
        step = gain[1:] != gain[:-1]
        first = np.append(False, step) & (spans.phrase_start - spans.start < reach)
        last = np.append(step, False) & (spans.end - spans.phrase_end < reach)
        touched = first | last
        touched[self.clips.voiced] |= changes_spans(self.beyond, *self.clips.phrases.T)
        touched[np.isnan(spans.phrase_start)] = False
        return touched

    def _measured(self, curve: GainCurve, frames: npt.NDArray[np.int64], unit: str) -> FloatArray:
        return levels_of_spans(self._grid, frames, span_gain(curve, self._borders, frames), unit)


def changes_spans(curve: GainCurve, start: FloatArray, end: FloatArray) -> npt.NDArray[np.bool_]:
    """In which of the spans ``start`` ... ``end`` samples (n,) a gain is anything but 0 dB. O((points + n) log points)."""
    before = np.concatenate([[0], np.cumsum(curve.db != 0)])
    inside = before[np.searchsorted(curve.at, end, "right")] > before[np.searchsorted(curve.at, start, "left")]
    at_edges = (np.interp(start, curve.at, curve.db) != 0) | (np.interp(end, curve.at, curve.db) != 0)
    return np.asarray(inside | at_edges)


def _sum(first: GainCurve, second: GainCurve | None) -> GainCurve:
    return first if second is None else add_curves([first, second])


@lru_cache(maxsize=4)
def _compiled(lanes: tuple[Lane, ...], rate: int, low: float, high: float) -> GainCurve:
    return compile_curves([lane.curve() for lane in lanes], rate, low, high)


@lru_cache(maxsize=3)
def _compiled_clips(spans: bytes, curves: tuple[Curve, ...], rate: int, low: float, high: float) -> GainCurve:
    clips = ClipSpans(*np.frombuffer(spans, np.float64).reshape(4, -1))
    return compile_curves([join_clip_curves(clips, curves, rate)], rate, low, high)
