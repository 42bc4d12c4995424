"""The database: one SQLite file in WAL mode, foreign keys on, migrated at start.

Writing units of work take the write lock at once (BEGIN IMMEDIATE), so the revision that one reads is the revision that
it replaces. ``synchronous=FULL``: an edit that was answered is on disk, even if the program is killed right after.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from functools import lru_cache
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, create_engine, event
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session as DbSession

from nivelus.core.errors import Busy, Refused
from nivelus.core.files import disk_full
from nivelus.store.backups import NAME, back_up, is_out_of_room, version_of
from nivelus.store.journal import Journal

_WORTH_IT = 4 << 20
"""Bytes that lie unused in the file from which on it is made smaller."""


_patience: ContextVar[float] = ContextVar("patience", default=30.0)


@contextmanager
def patience(seconds: float) -> Iterator[None]:
    """Wait no longer than so many seconds for a database that another program holds."""
    token = _patience.set(max(seconds, 0.0))
    try:
        yield
    finally:
        _patience.reset(token)


class Database:
    """Opens reading and writing units of work on the database in ``data``."""

    def __init__(self, data: Path) -> None:
        data.mkdir(parents=True, exist_ok=True, mode=0o700)
        self.data = data
        self.path = data / NAME
        self.engine = _engine(self.path)
        self.journal = Journal()

    def migrate(self) -> None:
        """Bring the tables to the newest version; what there was is copied first.

        Raises
        ------
        Refused
            If a newer version of the program has written here.
        """
        present = version_of(self.path) if self.path.exists() else None
        if present is not None and present not in known_versions():
            raise Refused(
                f"{self.path} was written by a newer Nivelus (tables {present}). Use that one, or another folder (--data)."
            )
        if present == newest_version():
            self._keep_private()
            return
        if present is not None:
            back_up(self.data, f"-before-{newest_version()}")
        from alembic import command

        config = _alembic()
        config.attributes["engine"] = self.engine
        with self._telling_of_room():
            command.upgrade(config, "head")
        self._keep_private()

    @contextmanager
    def reading(self) -> Iterator[DbSession]:
        """A unit of work that only reads: what is changed in its rows stays there, and never reaches the database."""
        notes: dict[str, Any] = {"revisions": {}, "data": self.data}
        with self._telling_of_room(), DbSession(self.engine, expire_on_commit=False, autoflush=False, info=notes) as db:
            yield db

    @contextmanager
    def writing(self) -> Iterator[DbSession]:
        """A unit of work that is committed when the block is left without an exception, else undone whole.

        What is added to ``info["undone"]`` of the session is called where it is undone.

        Raises
        ------
        DiskFull, Busy
            If there is no room for it, or another program holds the database for longer than ``patience``; nothing is changed
            then.
        """
        notes: dict[str, Any] = {"data": self.data, "journal": self.journal}
        with self._telling_of_room(), DbSession(self.engine, expire_on_commit=False, info=notes) as db:
            db.connection(execution_options={"nivelus_write": True})
            try:
                yield db
                db.commit()
            except BaseException:
                db.rollback()
                for act in db.info.get("undone", ()):
                    act()
                raise

    def shrink(self) -> bool:
        """Give room that is not used any more back to the disk; whether there was enough to be worth it."""
        with self.engine.connect() as connection:
            raw: Any = connection.connection.dbapi_connection
            pages, free, size = (
                raw.execute(f"PRAGMA {n}").fetchone()[0] for n in ("page_count", "freelist_count", "page_size")
            )
            if free * size < _WORTH_IT or free * 4 < pages:
                return False
            raw.execute("VACUUM")
            raw.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        return True

    def close(self) -> None:
        """Close every connection."""
        self.engine.dispose()

    def _keep_private(self) -> None:
        """Let nobody else on this machine read what is recorded here; where that is not ours to say, it stays as it is."""
        for path, mode in ((self.data, 0o700), (self.path, 0o600)):
            with suppress(OSError):
                path.chmod(mode)

    @contextmanager
    def _telling_of_room(self) -> Iterator[None]:
        try:
            yield
        except DBAPIError as error:
            if is_out_of_room(error.orig):
                raise disk_full(self.path) from error
            if is_held(error.orig):
                raise Busy(HELD) from error
            raise


HELD = "Another program holds the database. Nothing was changed; try again in a moment."


def is_held(error: BaseException | None) -> bool:
    """Whether an error of SQLite says that another program holds the file."""
    code = getattr(error, "sqlite_errorcode", None)
    return code is not None and code & 0xFF in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED)


@lru_cache(maxsize=1)
def known_versions() -> tuple[str, ...]:
    """The versions of the tables that this program knows, newest first."""
    from alembic.script import ScriptDirectory

    return tuple(script.revision for script in ScriptDirectory.from_config(_alembic()).walk_revisions())


def newest_version() -> str:
    """The version of the tables that this program works with."""
    return known_versions()[0]


def _alembic() -> Any:
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    return config


def _engine(path: Path) -> Engine:
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 30})

    @event.listens_for(engine, "connect")
    def _on_connect(connection: Any, _: Any) -> None:
        # the driver must not open transactions of its own: BEGIN is said below
        connection.isolation_level = None
        for pragma in ("journal_mode=WAL", "foreign_keys=ON", "synchronous=FULL"):
            connection.execute(f"PRAGMA {pragma}")

    @event.listens_for(engine, "begin")
    def _on_begin(connection: Any) -> None:
        writes = connection.get_execution_options().get("nivelus_write")
        if writes:
            connection.exec_driver_sql(f"PRAGMA busy_timeout = {round(1000 * _patience.get())}")
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")

    return engine
