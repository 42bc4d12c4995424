"""News for pages: which sessions have a newer revision, as server-sent events (WHATWG HTML, section 9.2).

An event is a JSON object of revisions by session: all of them at first, then those that are new; an empty one is a sign of
life. An edit may come from another process, such as an import, so the database is looked at for as long as somebody listens:
O(n) for n sessions.
"""

from __future__ import annotations

import asyncio
import json
from concurrent.futures import Executor
from contextlib import suppress
from typing import Any

from sqlalchemy import select
from sqlalchemy.exc import DBAPIError
from sqlmodel import col

from nivelus.core.errors import NivelusError
from nivelus.store.database import Database
from nivelus.store.tables import Session
from nivelus.web.relay import Receive, Relay, Send

ADDRESS = "/api/news"
_LOOK_SECONDS = 0.3
_SIGN_SECONDS = 3.0
_MOST_LISTENERS = 64


def _event(revisions: dict[str, int]) -> bytes:
    return f"data: {json.dumps(revisions)}\n\n".encode()


class News(Relay):
    """Who listens, and the revisions that they know."""

    def __init__(self, database: Database, threads: Executor) -> None:
        too_many = "More windows listen for news than can be served."
        super().__init__(b"text/event-stream", _event({}), _SIGN_SECONDS, _MOST_LISTENERS, too_many)
        self._database, self._threads = database, threads
        self._known: dict[str, int] = {}
        self._looking: asyncio.Task[None] | None = None

    async def tell(self, receive: Receive, send: Send) -> None:
        """Tell a page what it may not know yet, and then whatever is new, until it goes."""
        await self._look()
        if self._looking is None or self._looking.done():
            self._looking = asyncio.ensure_future(self._watch())
        await self.listen(receive, send, b"retry: 1000\n" + _event(self._known))

    async def _watch(self) -> None:
        while True:
            await asyncio.sleep(_LOOK_SECONDS)
            if not self._listeners:
                return
            await self._look()

    async def _look(self) -> None:
        """Read the revisions, and tell all who listen of those that are new, whoever looks."""
        # what cannot be read now is read the next time
        with suppress(NivelusError, DBAPIError, OSError, RuntimeError):
            now = await asyncio.get_running_loop().run_in_executor(self._threads, self._revisions)
            new = {id: revision for id, revision in now.items() if self._known.get(id) != revision}
            self._known = now
            if new:
                self.hand_on(_event(new))

    def _revisions(self) -> dict[str, int]:
        with self._database.reading() as db:
            rows: Any = db.execute(select(col(Session.id), col(Session.revision)))
            return {id: revision for id, revision in rows}
