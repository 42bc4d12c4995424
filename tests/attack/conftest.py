"""Attacks on the program: what it is given, killed at, and denied. Bounded here; ``--attack N`` makes N times as many."""

from __future__ import annotations

import pytest


@pytest.fixture(scope="session")
def times(request: pytest.FixtureRequest) -> int:
    """How many times as much as CI does."""
    return int(request.config.getoption("--attack"))
