"""Stamps of drafts: what is accepted is what was on view, or nothing."""

from __future__ import annotations

from hashlib import blake2b

from nivelus.core.errors import DraftChanged
from nivelus.core.gain.drawn import Curve

CHANGED = "The draft is another one by now. Nothing was changed; look at it again."


def stamp_of(*parts: object) -> str:
    """A short word for what a draft would do: curves by their points, all else by how it is written."""
    digest = blake2b(digest_size=9)
    for part in parts:
        if isinstance(part, Curve):
            for column in (part.at, part.db, part.shape):
                digest.update(column.tobytes())
        else:
            digest.update(repr(part).encode())
        digest.update(b"|")
    return digest.hexdigest()


def require_same(stamp: str | None, *parts: object) -> None:
    """Make sure that a draft is the one that was on view; with no ``stamp`` none was. Raises DraftChanged."""
    if stamp is not None and stamp != stamp_of(*parts):
        raise DraftChanged(CHANGED)
