"""Gestures: edits that a person made in one go, such as presses of an arrow key, become one step of the history.

Who edits names the gesture; what has the name of the newest step goes on with it. A name is used for one gesture only.
"""

from __future__ import annotations

import re
from contextvars import ContextVar

_NAME = re.compile(r"[A-Za-z0-9_-]{1,64}")
current: ContextVar[str] = ContextVar("gesture", default="")
"""The name of the gesture that the running edit is part of; empty for none."""


def begin(name: str) -> None:
    """Let what follows in this thread be part of a gesture; a name that is none stands for no gesture."""
    current.set(name if _NAME.fullmatch(name) else "")
