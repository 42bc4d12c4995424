"""Letting go of work that nobody waits for any more.

Long loops call ``step`` now and then. Whoever runs such work for somebody says within ``until`` how to ask whether they still
wait; anywhere else ``step`` does nothing. Threads that a piece of work starts ask for it with ``kept``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar, copy_context
from typing import Any, TypeVar

from nivelus.core.errors import Cancelled

Value = TypeVar("Value")
_has_gone: ContextVar[Callable[[], bool] | None] = ContextVar("has_gone", default=None)


@contextmanager
def until(has_gone: Callable[[], bool]) -> Iterator[None]:
    """Let ``step`` raise from when ``has_gone`` is true."""
    token = _has_gone.set(has_gone)
    try:
        yield
    finally:
        _has_gone.reset(token)


def step() -> None:
    """One step of long work. Raises Cancelled where nobody waits for it any more."""
    has_gone = _has_gone.get()
    if has_gone is not None and has_gone():
        raise Cancelled("Nobody waits for this any more.")


def kept(work: Callable[..., Value]) -> Callable[..., Value]:
    """``work`` for another thread, so that its steps are those of this one."""
    context = copy_context()

    def run(*given: Any) -> Value:
        # a context may be entered by one thread at a time
        return context.copy().run(work, *given)

    return run
