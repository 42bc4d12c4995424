"""Cards: every session in short, as the sessions page shows it."""

from __future__ import annotations

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.services.answers import tracks_of
from nivelus.services.levels import (
    clip_rows,
    is_judged,
    level_before,
    target_of,
)
from nivelus.services.views import (
    CardPhrase,
    CardView,
)
from nivelus.services.workbench import Workbench
from nivelus.store.tables import Job, Session

CARD_PHRASES = 160


def list_cards(bench: Workbench) -> list[CardView]:
    """Every session, the one touched last first."""
    with bench.database.reading() as db:
        sessions = db.scalars(select(Session).order_by(col(Session.touched).desc())).all()
        return [_card(db, session) for session in sessions]


def _card(db: DbSession, session: Session) -> CardView:
    deviations: list[float] = []
    spans: list[tuple[float, float]] = []
    names: list[str] = []
    duration = 0.0
    for track, recording in tracks_of(db, session.id):
        names.append(track.name)
        duration = max(duration, recording.frames / recording.sample_rate)
        clips = clip_rows(db, track.id)
        target = target_of(db, session, recording, clips)
        for clip in clips:
            before = level_before(session, recording, clip)
            if before is None or not is_judged(clip):
                continue
            deviations.append(before + clip.gain - target)
            rate = recording.sample_rate
            spans.append(((clip.phrase_start or 0) / rate, (clip.phrase_end or 0) / rate))
    importing = db.scalar(
        select(func.count())
        .select_from(Job)
        .where(
            col(Job.session_id) == session.id,
            col(Job.kind) == "import",
            col(Job.state).in_(("waiting", "running")),
        )
    )
    values = np.array(deviations)
    thin = max(1, -(-len(spans) // CARD_PHRASES))
    return CardView(
        id=session.id,
        name=session.name,
        touched=session.touched,
        duration=duration,
        tracks=names,
        level=int((np.abs(values) <= session.tolerance + 1e-9).sum()),
        count=len(values),
        worst=float(values[np.argmax(np.abs(values))]) if len(values) else None,
        tolerance=session.tolerance,
        phrases=[
            CardPhrase(start=start / duration, end=end / duration, deviation=deviation)
            for (start, end), deviation in list(zip(spans, deviations, strict=True))[::thin]
        ],
        importing=int(importing or 0),
    )
