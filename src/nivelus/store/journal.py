"""What the newest revisions of each session changed: an edit that was made from one of them is told from one that clashes.

It is kept in memory alone. What it does not know - after a restart, or of another process - counts as a clash.
"""

from __future__ import annotations

import threading
from collections.abc import Iterable
from typing import Any

from nivelus.store.steps import names_changed

_MOST_SESSIONS = 16
_MOST_REVISIONS = 32
_MOST_ROWS = 20_000
"""Rows of a session's revisions that are kept in mind together."""

Touched = dict[tuple[str, str], frozenset[str] | None]
"""By table and id the columns that changed; None for a row that came or went."""


class Journal:
    """The rows that each of the newest revisions changed, by session."""

    def __init__(self) -> None:
        self._sessions: dict[str, dict[int, Touched]] = {}
        self._lock = threading.Lock()

    def note(self, session: str, revision: int, rows: Iterable[dict[str, Any]]) -> None:
        """Keep what led to a revision. Takes O(n) for n rows."""
        touched = _touched(rows)
        with self._lock:
            own = self._sessions.pop(session, {})
            own[revision] = touched
            # the session that was edited last comes last
            self._sessions[session] = own
            while len(self._sessions) > _MOST_SESSIONS:
                del self._sessions[next(iter(self._sessions))]
            while len(own) > 1 and (len(own) > _MOST_REVISIONS or sum(map(len, own.values())) > _MOST_ROWS):
                del own[min(own)]

    def forget(self, session: str, revision: int) -> None:
        """A revision never came to be."""
        with self._lock:
            self._sessions.get(session, {}).pop(revision, None)

    def clashes(self, session: str, since: int, now: int, rows: Iterable[dict[str, Any]]) -> bool:
        """Whether an edit of some rows touches what changed after revision ``since`` up to ``now``, or that is not known."""
        with self._lock:
            own = self._sessions.get(session, {})
            between = [own.get(revision) for revision in range(since + 1, now + 1)]
        if since > now or any(touched is None for touched in between):
            return True
        for row, names in _touched(rows).items():
            for touched in between:
                assert touched is not None
                if row in touched:
                    there = touched[row]
                    if names is None or there is None or not names.isdisjoint(there):
                        return True
        return False


def _touched(rows: Iterable[dict[str, Any]]) -> Touched:
    found: Touched = {}
    for row in rows:
        stays = row["before"] is not None and row["after"] is not None
        found[row["table"], row["id"]] = frozenset(names_changed(row)) if stays else None
        if row["before"] is None:
            # what is new may be the same as what is new elsewhere on the track
            found[f"new {row['table']}", row["after"].get("track_id", "")] = None
    return found
