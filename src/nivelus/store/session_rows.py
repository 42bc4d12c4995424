"""What is asked of sessions, and of the rules that are kept beside them."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.store.tables import KeptRule, Session


def sessions_by_touch(db: DbSession) -> Sequence[Session]:
    """Every session, the one touched last first."""
    return db.scalars(select(Session).order_by(col(Session.touched).desc())).all()


def sessions_by_age(db: DbSession) -> Sequence[Session]:
    """Every session, the oldest first."""
    return db.scalars(select(Session).order_by(col(Session.created))).all()


def kept_rules(db: DbSession) -> Sequence[KeptRule]:
    """The rules that were kept, by name."""
    return db.scalars(select(KeptRule).order_by(func.lower(col(KeptRule.name)), col(KeptRule.id))).all()
