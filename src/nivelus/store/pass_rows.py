"""What is asked of passes and their pieces, and the pieces that are put away and taken out."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import delete, func, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session as DbSession
from sqlmodel import col

from nivelus.store.tables import Pass, PassPiece


def passes_of_take(db: DbSession, track_id: str, take: int) -> Sequence[Pass]:
    """The passes of a take that are not dropped, the newest first."""
    mine = (col(Pass.track_id) == track_id, col(Pass.take) == take, col(Pass.state) != "dropped")
    return db.scalars(select(Pass).where(*mine).order_by(col(Pass.number).desc())).all()


def undecided(db: DbSession, track_id: str) -> int:
    """How many passes of a track are neither kept nor dropped."""
    mine = (col(Pass.track_id) == track_id, col(Pass.state).in_(("writing", "waiting")))
    return db.scalar(select(func.count()).where(*mine)) or 0


def next_number(db: DbSession, track_id: str) -> int:
    """The number of the next pass of a track."""
    return (db.scalar(select(func.max(Pass.number)).where(col(Pass.track_id) == track_id)) or 0) + 1


def bytes_of(db: DbSession, ids: Sequence[str]) -> dict[str, int]:
    """How many bytes of some passes are there, of each of which there is any."""
    size = func.sum(func.length(PassPiece.data))
    mine = select(col(PassPiece.pass_id), size).where(col(PassPiece.pass_id).in_(ids)).group_by(col(PassPiece.pass_id))
    return {id: int(held) for id, held in db.execute(mine)}


def pieces(db: DbSession, pass_id: str) -> bytes:
    """All that there is of a pass, in order."""
    mine = select(PassPiece).where(col(PassPiece.pass_id) == pass_id).order_by(col(PassPiece.first))
    return b"".join(piece.data for piece in db.scalars(mine))


def put_piece(db: DbSession, pass_id: str, session_id: str, first: int, data: bytes) -> None:
    """Put a piece away; one that is there already stays."""
    piece = {"pass_id": pass_id, "first": first, "session_id": session_id, "data": data}
    db.execute(insert(PassPiece).values(piece).on_conflict_do_nothing())


def take_out_pieces(db: DbSession, pass_id: str) -> None:
    """Take out all pieces of a pass."""
    db.execute(delete(PassPiece).where(col(PassPiece.pass_id) == pass_id))
