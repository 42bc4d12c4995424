"""What is printed is text: names of files may hold anything, and a terminal obeys control characters."""

from __future__ import annotations

import sys
from typing import TextIO

_ESCAPED = {code: f"\\x{code:02x}" for code in (*range(32), *range(0x7F, 0xA0)) if chr(code) not in "\n\t"}


class Tame:
    """A stream that writes control characters as escapes, and what is no UTF-8 in a name as the escapes of its bytes."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        """Write some text; as many characters as it has."""
        self._stream.write(text.translate(_ESCAPED).encode("utf-8", "backslashreplace").decode("utf-8"))
        return len(text)

    def __getattr__(self, name: str) -> object:
        return getattr(self._stream, name)


def print_tamely() -> None:
    """Let everything that this process prints be text."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is not None and not isinstance(stream, Tame):
            setattr(sys, name, Tame(stream))
