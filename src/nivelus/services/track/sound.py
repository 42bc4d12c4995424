"""What the picture and the ear need of a track: samples, waveform, traces, gain, and figures before and after.

Answers are arrays; nothing here touches samples but ``samples``.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Collection
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

import numpy as np
import numpy.typing as npt

from nivelus.core.chain.state import LANES, LAYERS, TrackState
from nivelus.core.errors import NotFound, Refused, Stale
from nivelus.core.gain.compiled import GainCurve
from nivelus.core.marks.onsets import find_onsets
from nivelus.core.marks.phrases import room_frames, room_tone
from nivelus.core.measure.evenness import evenness
from nivelus.core.measure.grid import LevelGrid
from nivelus.core.measure.inside import inner_spread
from nivelus.core.measure.loudness import MOMENTARY, SHORT_TERM, figures, power_around, sliding_power, to_lufs
from nivelus.core.measure.spans import LOWEST_DB
from nivelus.core.measure.waveform import LEVELS, tile
from nivelus.core.sound.refusals import RATES
from nivelus.core.sound.timeline import Composed, open_sound
from nivelus.services.track.state import gain_key, loudness_offset, mono_offset, whole_state
from nivelus.services.track.targets import target_of
from nivelus.services.track.timeline import Timeline, sound_of, timeline_of, wave_of
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.marks import mark_figures
from nivelus.services.views.view import View
from nivelus.store.history import require, still_at
from nivelus.store.tables import Session, Track


class FiguresView(View):
    """Level figures, None where nothing passed the gates. Loudness in LUFS, peaks dBTP and dBFS, spread and width LU or dB.

    ``overs`` is the number of phrases whose clip passes the ceiling. ``stands`` says of each kind of detail that has a figure
    what its ``share`` of them stand under, dB, None where there are none, see ``core.kinds``; ``lisps`` counts the esses that
    are pulled too far under their neighbours; ``down`` the dips that are on. ``inside`` is the mean spread of 400 ms loudness
    inside the phrases, LU.
    """

    integrated: float | None
    loudness_range: float
    momentary_max: float | None
    short_term_max: float | None
    true_peak: float | None
    room_tone: float
    level: int
    count: int
    spread: float
    width: float
    overs: int
    stands: dict[str, float | None]
    lisps: int
    down: int
    inside: float


class BeforeAfter(View):
    """Figures without gain and with it."""

    before: FiguresView
    after: FiguresView


TRACE_STEP = 5
"""Frames between two values of the trace inside phrases: 20 a second."""
METER_STEP = 10
"""Frames between two values of the meter: 10 a second."""
MOST_SAMPLES = 1 << 20
Made = TypeVar("Made")
CHANGED = "This track was changed. It is shown as it is now."


def samples(
    bench: Workbench, track_id: str, key: str, start: int, count: int, take: int | None = None, rate: int | None = None
) -> npt.NDArray[np.float32]:
    """Samples of a track before gain, (n, channels) float32; fewer at its end.

    ``key`` is that of its timeline, here and below: Stale says that it is another one by now. ``take`` is the one that is
    heard if none is named. ``rate`` is the one at which it is heard, its own if not given: positions are in samples of it.
    """
    timeline = _timeline(bench, track_id, key, take)
    if not 0 < count <= MOST_SAMPLES or start < 0:
        raise Refused(f"Ask for 1 to {MOST_SAMPLES} samples.")
    if rate is not None and not RATES[0] <= rate <= RATES[1]:
        raise Refused(f"Sound is heard at {RATES[0]} to {RATES[1]} samples a second.")
    with open_sound(sound_of(bench, timeline), rate) as source:
        return np.asarray(source.read(start, count), np.float32)


def wave_tile(
    bench: Workbench, track_id: str, key: str, level: int, index: int, take: int | None = None
) -> npt.NDArray[np.float32]:
    """A tile of the waveform pyramid, (n, 2) float32; see ``core.measure.waveform.tile``."""
    timeline = _timeline(bench, track_id, key, take)
    if not 0 <= level < LEVELS or index < 0:
        raise NotFound("There is no such part of the waveform.")
    return tile(*wave_of(bench, timeline), level, index)


def onsets(bench: Workbench, track_id: str, key: str) -> npt.NDArray[np.float64]:
    """Where sound sets in on a track, seconds, (n,) float64."""
    timeline = _timeline(bench, track_id, key)
    wave, bins = wave_of(bench, timeline)
    return find_onsets(wave[:bins], timeline.room_tone)


def trace(bench: Workbench, track_id: str) -> npt.NDArray[np.float32]:
    """Level of the recording around every 50 ms, before gain, in the session's unit, (n,) float32.

    Momentary loudness for a target in LUFS, RMS of the same 400 ms for one in dBFS, true peak of 50 ms for one in dBTP.
    """
    with bench.database.reading() as db:
        session, _, timeline, _, grid = whole_state(bench, db, track_id)
        if session.unit == "peak":
            column = grid.column("true_peak").astype(np.float64)
            peaks = np.maximum.reduceat(column, np.arange(0, len(column), TRACE_STEP))
            return _floored(20 * np.log10(np.maximum(peaks, 1e-9)))
        power = grid.column("k" if session.unit == "loudness" else "plain").astype(np.float64)
        half = MOMENTARY // 2
        around = sliding_power(np.pad(power, (half, half)), MOMENTARY)[TRACE_STEP // 2 : len(power) : TRACE_STEP]
        if session.unit == "loudness":
            return _floored(to_lufs(around) + loudness_offset(session, timeline))
        return _floored(10 * np.log10(np.maximum(around, 1e-12)))


class Heard(NamedTuple):
    """What is heard and shown of a track in one state: its gain, compiled, and how loud it is.

    Gains are (n, 2) float64 of samples and dB, linear in dB between them: the sum of the layers that were asked for, the dips,
    and each drawn lane. ``ways`` (clips - 1, 2) are the samples from and to which each clip's gain gives way to the next.
    ``meter`` is (m, 2) float32, see ``meter``.
    """

    total: npt.NDArray[np.float64]
    dips: npt.NDArray[np.float64]
    curve: npt.NDArray[np.float64]
    ride: npt.NDArray[np.float64]
    trim: npt.NDArray[np.float64]
    ways: npt.NDArray[np.float64]
    meter: npt.NDArray[np.float32]


def heard(bench: Workbench, track_id: str, key: str, layers: Collection[str] = LAYERS) -> Heard:
    """What is heard of a track whose gain has this ``key``, all of it of the one state.

    ``layers`` are those of LAYERS that are on. Raises Stale where the gain is another one by now.
    """
    session, timeline, state, grid = _keyed(bench, track_id, key)
    dips, curve, ride, trim = (_pairs(state.of_layers([layer])) for layer in ("dips", *LANES))
    level = _meter(session, timeline, state, grid, layers)
    return Heard(_pairs(state.of_layers(layers)), dips, curve, ride, trim, np.stack(state.ways, axis=1), level)


def of_key(bench: Workbench, track_id: str, key: str | None, make: Callable[[], Made]) -> Made:
    """What is made of a track whose gain has a ``key``; of whatever it is now where none is named.

    Raises Stale where the gain is another one, or has become one meanwhile.
    """
    return make() if key is None else _unchanged(lambda: _keyed(bench, track_id, key), make)


def of_revision(
    bench: Workbench, table: type[Session | Track], id: str, revision: int | None, make: Callable[[], Made]
) -> Made:
    """What is made of a session, or of a track of it, at a ``revision``; of whatever it is now where none is named.

    Raises Stale where it is at another one, or has come to one meanwhile.
    """
    return make() if revision is None else _unchanged(lambda: still_at(bench.database, table, id, revision), make)


def _unchanged(look: Callable[[], object], make: Callable[[], Made]) -> Made:
    """What is made of a state that is there before and after; ``look`` raises where it is not."""
    look()
    made = make()
    look()
    return made


def meter(bench: Workbench, track_id: str, layers: Collection[str] = LAYERS) -> npt.NDArray[np.float32]:
    """Short-term loudness before and after the gain of ``layers`` every 100 ms, on the scale of the target, (n, 2) float32.

    Each value is of the 3 s that end there (EBU Tech 3341); shorter at the very beginning. Where the target is not in LUFS, the
    loudness is moved to its scale by the mean of level - loudness of the phrases.
    """
    with bench.database.reading() as db:
        session, _, timeline, state, grid = whole_state(bench, db, track_id)
    return _meter(session, timeline, state, grid, layers)


def _meter(
    session: Session, timeline: Timeline, state: TrackState, grid: LevelGrid, layers: Collection[str]
) -> npt.NDArray[np.float32]:
    gain = state.gain_per_frame if set(LAYERS) <= set(layers) else state.per_frame(state.of_layers(layers))
    power = grid.column("k").astype(np.float64)
    out = [_short_term(p) - _unit_shift(state) for p in (power, power * gain[:, 0])]
    return np.stack(out, axis=1).astype(np.float32) + np.float32(loudness_offset(session, timeline))


def gain_points(
    bench: Workbench,
    track_id: str,
    layers: Collection[str] = LAYERS,
    take: int | None = None,
    key: str | None = None,
) -> npt.NDArray[np.float64]:
    """The compiled pre-fader gain as points, (n, 2) float64 of samples and dB; linear in dB between them.

    ``layers`` are those of LAYERS that are on. With a ``key`` it is the gain that has it, or Stale.
    """
    if key is not None:
        _, _, state, _ = _keyed(bench, track_id, key)
    else:
        with bench.database.reading() as db:
            *_, state, _ = whole_state(bench, db, track_id, take)
    return _pairs(state.of_layers(layers))


def before_after(bench: Workbench, track_id: str) -> BeforeAfter:
    """Every figure of a track without gain and with it, from the level grid."""
    with bench.database.reading() as db:
        session, _, timeline, state, grid = whole_state(bench, db, track_id)
        target = target_of(bench, db, session, state)
    judged = state.clips.judged
    old, new = mark_figures(state)
    plain, moved = state.clips.true_peak[judged], state.peaks_with(state.gain, judged)
    mono = mono_offset(session, timeline)
    spans = state.clips.phrase_slices(grid)
    rooms = room_frames(grid, [(span.start, span.stop) for span in spans])
    gain, unwished = state.gain_per_frame, state.unwished.gain_per_frame
    return BeforeAfter(
        before=_figures(grid, session, spans, rooms, mono, state.levels_before[judged], target, None, None, plain, old),
        after=_figures(grid, session, spans, rooms, mono, state.off(judged, 0.0), target, gain, unwished, moved, new),
    )


def render_source(bench: Workbench, track_id: str) -> tuple[Path | Composed, Track, TrackState, LevelGrid]:
    """The sound of a track, and its state, with the gain that it is rendered with."""
    with bench.database.reading() as db:
        _, track, timeline, state, grid = whole_state(bench, db, track_id)
        return sound_of(bench, timeline), track, state, grid


def _figures(
    grid: LevelGrid,
    session: Session,
    spans: list[slice],
    rooms: npt.NDArray[np.bool_],
    mono: float,
    levels: npt.NDArray[np.float64],
    target: float,
    gain: npt.NDArray[np.float64] | None,
    unwished: npt.NDArray[np.float64] | None,
    peaks: npt.NDArray[np.float64],
    details: dict[str, Any],
) -> FiguresView:
    f = figures(grid, gain, mono)
    even = evenness(levels, target, session.tolerance)
    # evenness is judged without what was asked for in the trim
    power = np.asarray(grid.column("k"), np.float64) * (1.0 if unwished is None else unwished[:, 0])
    return FiguresView(
        inside=float(np.mean([inner_spread(power[span]) for span in spans])) if spans else 0.0,
        integrated=_finite(f.integrated),
        loudness_range=f.loudness_range,
        momentary_max=_finite(f.momentary_max),
        short_term_max=_finite(f.short_term_max),
        true_peak=_finite(f.true_peak),
        room_tone=room_tone(grid, rooms, gain),
        level=even.level,
        count=even.count,
        spread=even.spread,
        width=even.width,
        overs=int((peaks > session.ceiling + 0.005).sum()),
        **details,
    )


def _unit_shift(state: TrackState) -> float:
    """How far loudness lies above the session's unit, on average over the phrases."""
    judged = state.clips.judged
    if state.unit == "loudness" or not len(judged):
        return 0.0
    return float(np.mean(state.clips.loudness[judged] - state.levels_before[judged]))


def _short_term(power: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    end = np.arange(METER_STEP, len(power) + 1, METER_STEP)
    return np.asarray(np.maximum(to_lufs(power_around(power, end, SHORT_TERM, 0)), LOWEST_DB))


def _keyed(bench: Workbench, track_id: str, key: str) -> tuple[Session, Timeline, TrackState, LevelGrid]:
    with bench.database.reading() as db:
        session, track, timeline, state, grid = whole_state(bench, db, track_id)
        if gain_key(db, session, track, timeline) != key:
            raise Stale(CHANGED, id=track_id)
        return session, timeline, state, grid


def _pairs(curve: GainCurve) -> npt.NDArray[np.float64]:
    return np.stack([curve.at, curve.db], axis=1)


def _timeline(bench: Workbench, track_id: str, key: str, take: int | None = None) -> Timeline:
    with bench.database.reading() as db:
        timeline = timeline_of(db, require(db, Track, track_id, "track"), take)
    if timeline.key != key:
        raise Stale(CHANGED, id=track_id)
    if timeline.missing:
        raise NotFound("This sound file is missing. Import it again.", id=track_id)
    return timeline


def _floored(levels: npt.NDArray[np.float64]) -> npt.NDArray[np.float32]:
    return np.maximum(levels, LOWEST_DB).astype(np.float32)


def _finite(value: float) -> float | None:
    return value if math.isfinite(value) else None
