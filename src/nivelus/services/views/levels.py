"""Clips as the interface takes them: their gain, and the levels of their phrases before and after."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.state import Places, TrackState
from nivelus.services.views.session import ClipValues, ClipView
from nivelus.store.clip_rows import ClipRow, ClipRows
from nivelus.store.tables import Clip, Track
from nivelus.store.track_rows import clips_of_take, phrase_spans


def clips_of(db: DbSession, track: Track, take: int | None = None) -> list[Clip]:
    """The clips of a track's take, of the one that is heard if none is named, in order of time, to be changed."""
    return clips_of_take(db, track.id, track.take if take is None else take)


def phrases_of(db: DbSession, track: Track, rate: int, recording: str | None) -> list[tuple[float, float]]:
    """The phrases of one of a track's recordings in all of its takes, (start, end) in seconds of the recording.

    ``recording`` is as clips have it, ``rate`` the track's. Of phrases that overlap, as those of copies do, the first counts.
    """
    spans = sorted(phrase_spans(db, track.id, recording))
    apart: list[tuple[int, int]] = []
    for start, end in spans:
        if not apart or start >= apart[-1][1]:
            apart.append((start, end))
    return [(start / rate, end / rate) for start, end in apart]


class Stand(NamedTuple):
    """How loud a phrase is with all gain, and by how much the trim moves it, dB."""

    after: float | None = None
    wish: float = 0.0


NO_PHRASE = Stand()


def levels_by_clip(state: TrackState, places: Places) -> dict[str, Stand]:
    """How the phrases of some clips stand, by clip id; those without a phrase are left out."""
    after, unasked = state.levels_asked(places)
    stands = zip(places.tolist(), after.tolist(), (after - unasked).tolist(), strict=True)
    # NaN is not itself
    return {state.clips.ids[place]: Stand(level, round(wish, 3) + 0.0) for place, level, wish in stands if level == level}


def clip_values(clips: Sequence[ClipRow], stands: Mapping[str, Stand]) -> ClipValues:
    """What of clips changes without them being other clips, as the interface takes it."""
    own = [stands.get(clip.id, NO_PHRASE) for clip in clips]
    return ClipValues(
        ids=" ".join(c.id for c in clips),
        gain=[c.gain for c in clips],
        after=[None if stand.after is None else round(stand.after, 3) for stand in own],
        wish=[stand.wish for stand in own],
        flags=[c.locked | c.left_out << 1 | c.by_hand << 2 | c.reference << 3 for c in clips],
        names=["locked", "left_out", "by_hand", "reference"],
    )


def view_clips(state: TrackState, clips: ClipRows, places: Places, stands: Mapping[str, Stand]) -> list[ClipView]:
    """The clips at some places as the interface shows them, with the levels that they have on their track."""
    rate, table, before = state.rate, state.clips, state.levels_before[places].tolist()
    peaks, rooms = table.true_peak[places].tolist(), table.room_tone[places].tolist()
    return [
        ClipView(
            id=c.id,
            track=c.track_id,
            start=c.start / rate,
            end=c.end / rate,
            gain=c.gain,
            phrase_start=None if c.phrase_start is None else c.phrase_start / rate,
            phrase_end=None if c.phrase_end is None else c.phrase_end / rate,
            before=level if level == level else None,
            after=stands.get(c.id, NO_PHRASE).after,
            wish=stands.get(c.id, NO_PHRASE).wish,
            peak=peak,
            room_tone=room,
            recording=c.recording_id or "",
            shift=c.shift / rate,
            confidence=c.confidence,
            locked=c.locked,
            left_out=c.left_out,
            by_hand=c.by_hand,
            reference=c.reference,
            label=c.label,
        )
        for c, level, peak, room in zip((clips[place] for place in places.tolist()), before, peaks, rooms, strict=True)
    ]
