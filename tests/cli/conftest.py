"""A file with details, for the command line."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import detailed_voice, write_sound


@pytest.fixture
def detailed_file(tmp_path: Path) -> Path:
    return write_sound(tmp_path / "details.wav", detailed_voice())
