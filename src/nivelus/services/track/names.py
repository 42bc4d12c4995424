"""Names as they are kept."""

from __future__ import annotations

from nivelus.core.errors import Refused

NAME_LENGTH = 120


def clean_name(name: str) -> str:
    """A name without control characters or surrounding space. Raises Refused where nothing is left."""
    clean = "".join(c for c in name if c.isprintable()).strip()[:NAME_LENGTH]
    if not clean:
        raise Refused("A name needs at least one letter.")
    return clean
