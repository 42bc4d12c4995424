"""The database: one SQLite file in WAL mode, foreign keys on, migrated at start.

Writing units of work take the write lock at once (BEGIN IMMEDIATE), so the revision that one reads is the revision that
it replaces. ``synchronous=FULL``: an edit that was answered is on disk, even if the program is killed right after.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, create_engine, event
from sqlalchemy.orm import Session as DbSession


class Database:
    """Opens reading and writing units of work on the database in ``data``."""

    def __init__(self, data: Path) -> None:
        data.mkdir(parents=True, exist_ok=True)
        self.path = data / "nivelus.sqlite"
        self.engine = _engine(self.path)

    def migrate(self) -> None:
        """Bring the tables to the newest version."""
        from alembic import command
        from alembic.config import Config

        config = Config()
        config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
        config.attributes["engine"] = self.engine
        command.upgrade(config, "head")

    @contextmanager
    def reading(self) -> Iterator[DbSession]:
        """A unit of work that only reads."""
        with DbSession(self.engine, expire_on_commit=False) as db:
            yield db

    @contextmanager
    def writing(self) -> Iterator[DbSession]:
        """A unit of work that is committed when the block is left without an exception, else undone whole."""
        with DbSession(self.engine, expire_on_commit=False) as db:
            db.connection(execution_options={"nivelus_write": True})
            yield db
            db.commit()

    def close(self) -> None:
        """Close every connection."""
        self.engine.dispose()


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
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")

    return engine
