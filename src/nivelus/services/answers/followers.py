"""What an edit may not do to tracks that follow another, whichever way it goes about it."""

from __future__ import annotations

from collections.abc import Iterator

from sqlalchemy.orm import Session as DbSession

from nivelus.core.errors import Refused
from nivelus.services.track.timeline import leader_of
from nivelus.store.editing import Edit
from nivelus.store.tables import Track
from nivelus.store.track_rows import followers_of

_OF_A_VOICE = ("kind", "take", "takes", "dip_rules")
"""What of a track is of no use to one that follows another."""


def mind_followers(edit: Edit) -> None:
    """Raises Refused where an edit does something to a track that its leader alone has, or leaves it without its leader."""
    for id in dict.fromkeys(_touched(edit)):
        track = edit.db.get(Track, id)
        if track is not None:
            stands_alone(edit.db, track)
    for row in edit.touched("track"):
        followers = followers_of(edit.db, row["id"]) if row["after"] is None else []
        if followers:
            raise Refused(f"“{row['before']['name']}” is followed by “{followers[0].name}”. Let that stand on its own first.")


def stands_alone(db: DbSession, track: Track) -> None:
    """Raises Refused where a track follows another."""
    leader = leader_of(db, track)
    if leader is not None:
        raise Refused(f"“{track.name}” follows “{leader.name}”: do this there, or let it stand on its own first.")


def _touched(edit: Edit) -> Iterator[str]:
    """The tracks that something was done to which those that follow do not have."""
    for table in ("clip", "detail", "mark_set"):
        yield from (row["after"]["track_id"] for row in edit.touched(table) if row["after"] is not None)
    yield from (row["after"]["track_id"] for row in edit.touched("lane") if row["after"] and row["after"]["name"] != "trim")
    for row in edit.touched("track"):
        before, after = row["before"], row["after"]
        stays = before is not None and after is not None and before.get("follows") == after["follows"]
        if stays and any(before.get(name) != after[name] for name in _OF_A_VOICE):
            yield row["id"]
