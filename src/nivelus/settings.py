"""Settings, from the environment (``NIVELUS_...``) or the command line."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pydantic import Field, ValidationError
from pydantic_settings import BaseSettings, SettingsConfigDict

from nivelus.core.errors import Refused

ALLOWED = {
    "port": "it is a whole number from 1 to 65535",
    "max_upload_mb": "it is a whole number of MB, 0 or more",
    "data": "it is the name of a folder",
}


class Settings(BaseSettings):
    """Where data lives, where the program listens, and what it accepts."""

    model_config = SettingsConfigDict(env_prefix="NIVELUS_", extra="ignore")

    data: Path = Path.home() / ".local" / "share" / "nivelus"
    host: str = "127.0.0.1"
    port: int = Field(default=8130, ge=1, le=65535)
    token: str | None = None
    """Needed to listen anywhere but on this machine; then every request must carry it."""
    max_upload_mb: int = Field(default=8192, ge=0, le=1 << 30)

    @classmethod
    def read(cls, **given: Any) -> Settings:
        """The settings as the environment has them, with what is given instead.

        Raises
        ------
        Refused
            Naming the setting that cannot be used, and what is allowed.
        """
        try:
            return cls(**given)
        except ValidationError as error:
            fault = error.errors(include_url=False)[0]
            name = str(fault["loc"][0]) if fault["loc"] else ""
            said = f"NIVELUS_{name.upper()} is “{fault.get('input')}”"
            raise Refused(f"{said}, which cannot be used: {ALLOWED.get(name, fault['msg'])}.") from None

    @property
    def is_local(self) -> bool:
        """Whether only this machine can reach the program."""
        return self.host in {"127.0.0.1", "::1", "localhost"}
