"""What was worked out last, kept for the next one who asks."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock
from typing import Generic, TypeVar

Value = TypeVar("Value")


class Newest(Generic[Value]):
    """The values that were asked for last, at most so many of them, each under what it was made of."""

    def __init__(self, most: int) -> None:
        self._most, self._lock = most, Lock()
        self._known: OrderedDict[Hashable, Value] = OrderedDict()

    def get(self, key: Hashable, make: Callable[[], Value]) -> Value:
        """The value that is kept under a key, else what ``make`` makes; where two ask at once, both may make it."""
        value = self.known(key)
        return self.keep(key, make()) if value is None else value

    def known(self, key: Hashable) -> Value | None:
        """The value that is kept under a key, None where none is."""
        with self._lock:
            if key in self._known:
                self._known.move_to_end(key)
            return self._known.get(key)

    def keep(self, key: Hashable, value: Value) -> Value:
        """Keep a value under a key, and give it back."""
        with self._lock:
            self._known[key] = value
            while len(self._known) > self._most:
                self._known.popitem(last=False)
        return value
