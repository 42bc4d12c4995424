"""Cards: every session in short, as the sessions page shows it."""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np
from pydantic import field_validator
from sqlalchemy.orm import Session as DbSession

from nivelus.core.errors import Broken, NotFound
from nivelus.services.answers.answers import tracks_of
from nivelus.services.sessions.broken import reading_whole
from nivelus.services.track.latest import Newest
from nivelus.services.track.state import state_of
from nivelus.services.track.targets import target_of
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.view import View
from nivelus.store.job_rows import imports_open
from nivelus.store.session_rows import sessions_by_touch
from nivelus.store.tables import Session, Track


class CardPhrase(View):
    """A phrase on a card's thumbnail: where it lies (share of the length) and how far it is from the target."""

    start: float
    end: float
    deviation: float


class CardView(View):
    """A session on the sessions page. ``worst`` is the deviation of the phrase furthest from the target.

    ``beds`` is how many of its tracks have no phrases to be levelled. ``broken`` says why a session cannot be read; it has no
    phrases then.
    """

    id: str
    name: str
    touched: datetime
    duration: float
    tracks: list[str]
    beds: int
    level: int
    count: int
    worst: float | None
    tolerance: float
    phrases: list[CardPhrase]
    importing: int
    asking: int
    broken: str = ""

    @field_validator("touched")
    @classmethod
    def _is_utc(cls, value: datetime) -> datetime:
        # SQLite keeps no time zone; every moment in the database is UTC
        return value.replace(tzinfo=UTC) if value.tzinfo is None else value


class CardsView(View):
    """All sessions."""

    items: list[CardView]


CARD_PHRASES = 160


def list_cards(bench: Workbench) -> list[CardView]:
    """Every session, the one touched last first."""
    with bench.database.reading() as db:
        return [_card_or_broken(bench, db, session) for session in sessions_by_touch(db)]


def _card_or_broken(bench: Workbench, db: DbSession, session: Session) -> CardView:
    """The card of a session; one that cannot be read is told of, and takes no other down."""
    try:
        with reading_whole(session):
            return _card(bench, db, session)
    except (Broken, NotFound) as error:
        return CardView(
            id=session.id,
            name=session.name,
            touched=session.touched,
            duration=0.0,
            tracks=[],
            beds=0,
            level=0,
            count=0,
            worst=None,
            tolerance=session.tolerance,
            phrases=[],
            importing=0,
            asking=0,
            broken=error.sentence,
        )


def _card(bench: Workbench, db: DbSession, session: Session) -> CardView:
    tracks = tracks_of(db, session.id)
    names = [track.name for track, _ in tracks]
    duration = max((timeline.duration for _, timeline in tracks), default=0.0)
    spans, deviations = _phrases(bench, db, session, tracks)
    values = np.array(deviations)
    thin = max(1, -(-len(spans) // CARD_PHRASES))
    importing, asking = imports_open(db, session.id)
    return CardView(
        id=session.id,
        name=session.name,
        touched=session.touched,
        duration=duration,
        tracks=names,
        beds=sum(track.kind == "bed" for track, _ in tracks),
        level=int((np.abs(values) <= session.tolerance + 1e-9).sum()),
        count=len(values),
        worst=float(values[np.argmax(np.abs(values))]) if len(values) else None,
        tolerance=session.tolerance,
        phrases=[
            CardPhrase(start=start / duration, end=end / duration, deviation=deviation)
            for (start, end), deviation in list(zip(spans, deviations, strict=True))[::thin]
        ],
        importing=importing,
        asking=asking,
    )


Spans = list[tuple[float, float]]
_known: Newest[tuple[Spans, list[float]]] = Newest(100)
"""What was worked out last, by session, revision, and whether all of its recordings are there."""


def _phrases(
    bench: Workbench, db: DbSession, session: Session, tracks: list[tuple[Track, Timeline]]
) -> tuple[Spans, list[float]]:
    """The phrases of a session that count: from when to when (seconds), and how far each is from the target as it sounds."""
    key = session.id, session.revision, any(timeline.missing for _, timeline in tracks)
    return _known.get(key, lambda: _worked_out(bench, db, session, tracks))


def _worked_out(
    bench: Workbench, db: DbSession, session: Session, tracks: list[tuple[Track, Timeline]]
) -> tuple[Spans, list[float]]:
    spans: Spans = []
    deviations: list[float] = []
    for track, timeline in tracks:
        if track.kind != "voice":
            continue
        state = state_of(bench, db, session, track, timeline)
        judged = state.clips.judged
        target = target_of(bench, db, session, state)
        edges = state.clips.phrases_of(judged) / state.rate
        spans += [(start, end) for start, end in edges.tolist()]
        deviations += state.off(judged, target).tolist()
    return spans, deviations
