"""Arrays of many numbers, compared at once: ``pytest.approx`` looks at one after the other, which takes 10 µs each."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt


class Near:
    """What is equal to every array whose numbers lie within ``rel`` of these, or ``abs`` where that is more."""

    # so that an array on the left leaves the comparison to this
    __array_ufunc__ = None

    def __init__(self, expected: npt.ArrayLike, rel: float, abs: float) -> None:
        self._expected, self._rel, self._abs = np.asarray(expected), rel, abs
        self._told = ""

    def __eq__(self, other: object) -> bool:
        found = np.asarray(other)
        if found.shape != self._expected.shape:
            self._told = f", not {found.shape}"
            return False
        slack = np.maximum(self._rel * np.abs(self._expected), self._abs)
        away = np.where(found == self._expected, 0.0, np.abs(found - self._expected) - slack)
        far = np.flatnonzero(~(away <= 0))
        if len(far):
            first = np.unravel_index(far[0], found.shape)
            self._told = f": {len(far)} are not, the first is {found[first]} for {self._expected[first]} at {first}"
        return not len(far)

    def __repr__(self) -> str:
        return f"{self._expected.shape} numbers within {self._abs:g}{self._told}"


def near(expected: npt.ArrayLike, *, rel: float | None = None, abs: float | None = None) -> Near:
    """What arrays of numbers are compared with as a whole, with ``==``; as near as ``pytest.approx`` has it."""
    if rel is None:
        rel = 1e-6 if abs is None else 0.0
    return Near(expected, rel, 1e-12 if abs is None else abs)
