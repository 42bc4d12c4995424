"""The log: what nobody foresaw goes into a file that does not grow for ever, short and without secrets.

The console and the answer get a sentence and an id; under that id the log tells where it happened: the last calls, without
the values that they had, for those may be of the person, and with the token struck out.
"""

from __future__ import annotations

import logging
import re
import secrets
import traceback
from logging.handlers import RotatingFileHandler
from pathlib import Path

LARGEST = 1 << 20
KEPT = 5
MOST_CALLS = 12
_log = logging.getLogger("nivelus")
_log.propagate = False
_log.addHandler(logging.NullHandler())
_secret: list[str] = []


def open_log(data: Path, name: str = "nivelus", token: str | None = None) -> Path:
    """Write the log to ``<data>/logs/<name>.log``; ``token`` is never written. Returns where it lies."""
    path = data / "logs" / f"{name}.log"
    path.parent.mkdir(parents=True, exist_ok=True)
    for old in list(_log.handlers):
        _log.removeHandler(old)
        old.close()
    handler = RotatingFileHandler(path, maxBytes=LARGEST, backupCount=KEPT, encoding="utf-8", delay=True)
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(message)s"))
    _log.addHandler(handler)
    _log.setLevel(logging.INFO)
    # a log that cannot be written must not be what stops the work
    logging.raiseExceptions = False
    _secret[:] = [token] if token else []
    return path


def write_down(error: BaseException, where: str = "") -> str:
    """Write an unforeseen error to the log; the id that it has there."""
    id = secrets.token_hex(4)
    calls = traceback.extract_tb(error.__traceback__)[-MOST_CALLS:]
    lines = [f"  {Path(call.filename).name}:{call.lineno} {call.name}" for call in calls]
    said = f"{type(error).__name__}: {str(error)[:500]}"
    _log.error(_without_secrets("\n".join([f"{id} {where}".rstrip(), said, *lines])))
    return id


def note(sentence: str) -> None:
    """Write a sentence to the log."""
    _log.info(_without_secrets(sentence))


def _without_secrets(text: str) -> str:
    for secret in _secret:
        text = text.replace(secret, "…")
    return re.sub(r"((?:token|nivelus_token)=)[^&\s;\"']+", r"\1…", text)
