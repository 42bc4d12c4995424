"""What a recording is called by: the hash of its content."""

from __future__ import annotations

import hashlib
import mmap
from collections.abc import Callable
from pathlib import Path
from typing import Any, BinaryIO

_BLAKE3 = "b3"
_PART = 16 << 20


class Plain:
    """Only what can be written to: numpy writes past a real file's own methods, and does not say why where that fails."""

    def __init__(self, handle: BinaryIO) -> None:
        self.write = handle.write


class ContentHash:
    """The hash of content that comes bit by bit, as the vault names recordings: BLAKE3, marked as such by its beginning.

    Recordings that were stored by older versions bear a SHA-256, and keep it.
    """

    def __init__(self, like: str | None = None) -> None:
        """``like`` is a hash of the kind that is wanted; of the present kind if there is none."""
        self._is_older = like is not None and is_older_hash(like)
        if self._is_older:
            self._digest: Any = hashlib.sha256()
        else:
            from blake3 import blake3

            self._digest = blake3()

    def update(self, block: bytes) -> None:
        """Take in the next bytes."""
        self._digest.update(block)

    def name(self) -> str:
        """The hash of all that was taken in."""
        return ("" if self._is_older else _BLAKE3) + str(self._digest.hexdigest())


def is_older_hash(hash: str) -> bool:
    """Whether a recording was stored when its hash was a SHA-256."""
    return not hash.startswith(_BLAKE3)


def hash_file(path: Path, progress: Callable[[float], None] | None = None, like: str | None = None) -> str:
    """The content hash of a file, read in blocks of 4 MiB; see ContentHash."""
    digest = ContentHash(like)
    size, done = max(1, path.stat().st_size), 0
    with path.open("rb") as handle:
        while block := handle.read(1 << 22):
            digest.update(block)
            done += len(block)
            if progress:
                progress(done / size)
    return digest.name()


def hash_own(path: Path) -> str:
    """The content hash of a file that nobody else knows of: mapped into memory part by part, and worked out on all cores.

    A file that another program cuts short meanwhile would end this one: it is not for what people give.
    """
    from blake3 import blake3

    digest, size = blake3(max_threads=blake3.AUTO), path.stat().st_size
    with path.open("rb") as handle:
        for at in range(0, size, _PART):
            with mmap.mmap(handle.fileno(), min(_PART, size - at), access=mmap.ACCESS_READ, offset=at) as part:
                digest.update(part)
    return _BLAKE3 + str(digest.hexdigest())
