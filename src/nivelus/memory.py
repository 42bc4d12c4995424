"""What a process that runs for days does about its memory."""

from __future__ import annotations

import ctypes
import gc
import sys
from collections.abc import Callable

_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8
"""Options of mallopt, see malloc.h."""


def leave_what_stays() -> None:
    """Let the collector of garbage leave what was loaded at the start alone.

    Once in a while it looks at all that lives, half of it libraries, and does so in the middle of an edit: a tenth of a second.
    """
    gc.collect()
    gc.freeze()


def give_memory_back() -> None:
    """Let large arrays go back to the system as soon as they are not used any more.

    By itself glibc keeps an arena for every thread, and the larger the blocks that were freed the more of them it keeps:
    after a day on an hour-long session that is some hundred MB of nothing.
    """
    mallopt = _of_glibc("mallopt")
    if mallopt is None:
        return
    for option, value in ((_ARENA_MAX, 2), (_MMAP_THRESHOLD, 1 << 19), (_TRIM_THRESHOLD, 1 << 20)):
        mallopt(option, value)


def give_back_now() -> None:
    """Hand back what is free. For what works hard and then rests: it need not do so at every array, which takes time."""
    trim = _of_glibc("malloc_trim")
    if trim is not None:
        trim(0)


def _of_glibc(name: str) -> Callable[..., int] | None:
    """A function of the C library; None where it has none of this name, but ways of its own."""
    return getattr(ctypes.CDLL(None), name, None) if sys.platform == "linux" else None
