"""Settings, from the environment (``NIVELUS_...``) or the command line."""

from __future__ import annotations

from pathlib import Path

from pydantic_settings import BaseSettings, SettingsConfigDict


class Settings(BaseSettings):
    """Where data lives, where the program listens, and what it accepts."""

    model_config = SettingsConfigDict(env_prefix="NIVELUS_", extra="ignore")

    data: Path = Path.home() / ".local" / "share" / "nivelus"
    host: str = "127.0.0.1"
    port: int = 8130
    token: str | None = None
    """Needed to listen anywhere but on this machine; then every request must carry it."""
    max_upload_mb: int = 8192
    redis_url: str | None = None
    """Queue for work spread over several machines; SQLite beside the data if not set."""

    @property
    def is_local(self) -> bool:
        """Whether only this machine can reach the program."""
        return self.host in {"127.0.0.1", "::1", "localhost"}
