"""The workbench: the database and the vault of one data folder, handed to every use case."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from typing import TypeVar

from nivelus.core.errors import DiskFull
from nivelus.core.files import free_bytes
from nivelus.settings import Settings
from nivelus.store.database import Database
from nivelus.store.vault import Vault

SPARE, LEAST_SPARE = 4 << 20, 256 << 10
"""Bytes that are kept in reserve, so that something can be deleted when the disk is full; less than the least is of no use."""
Value = TypeVar("Value")


class Workbench:
    """Opens what lies in ``settings.data`` and brings its tables to the newest version, unless told not to."""

    def __init__(self, settings: Settings, migrate: bool = True) -> None:
        self.settings = settings
        self.database = Database(settings.data)
        self.vault = Vault(settings.data)
        if migrate:
            self.database.migrate()

    def close(self) -> None:
        """Close the database."""
        self.database.close()

    def keep_spare(self) -> None:
        """Keep some room in reserve, a sixteenth of what is left at most."""
        path = self.settings.data / "spare"
        size = min(SPARE, free_bytes(path) // 16)
        if path.exists() or size < LEAST_SPARE:
            return
        try:
            # zeros that are written take room on every file system
            path.write_bytes(bytes(size))
        except OSError:
            with suppress(OSError):
                path.unlink(missing_ok=True)

    def freeing(self, work: Callable[[], Value]) -> Value:
        """Do what makes room on the disk, with the room in reserve where there is no other. Raises DiskFull if that is gone."""
        try:
            return work()
        except DiskFull:
            spare = self.settings.data / "spare"
            if not spare.exists():
                raise
            spare.unlink(missing_ok=True)
            return work()
