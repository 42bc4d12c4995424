"""One program at a time works on a data folder.

The lock is the operating system's: it is let go when the last process that holds it ends, however it ends. The worker
inherits it, so a new start waits until nothing of an old one is left.
"""

from __future__ import annotations

import fcntl
import os
import time
from pathlib import Path

from nivelus.core.errors import Refused


class DataLock:
    """Holds a data folder; ``file`` is the descriptor to hand on to a child process."""

    def __init__(self, data: Path, patience: float = 12.0) -> None:
        """Take the lock. Raises Refused if another program holds it for longer than ``patience`` seconds."""
        data.mkdir(parents=True, exist_ok=True, mode=0o700)
        # the folder itself: a file in it could be deleted, and the next program would lock another one
        self.file = os.open(data, os.O_RDONLY)
        end = time.monotonic() + patience
        while True:
            try:
                fcntl.flock(self.file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                return
            except BlockingIOError:
                if time.monotonic() > end:
                    os.close(self.file)
                    raise Refused(
                        f"Another Nivelus is working on {data}. Stop it first, or use another folder (--data)."
                    ) from None
                time.sleep(0.1)

    def release(self) -> None:
        """Let go."""
        os.close(self.file)
