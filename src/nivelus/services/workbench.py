"""The workbench: the database and the vault of one data folder, handed to every use case."""

from __future__ import annotations

from nivelus.settings import Settings
from nivelus.store.database import Database
from nivelus.store.vault import Vault


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
