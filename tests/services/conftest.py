"""What several tests of the services work on."""

from __future__ import annotations

from pathlib import Path

import pytest

from nivelus.services.sessions import sessions
from nivelus.services.track.workbench import Workbench
from tests.conftest import bring_in, write_sound
from tests.helpers.sounds import wavering


@pytest.fixture
def swaying(bench: Workbench, tmp_path: Path) -> str:
    """A track of three phrases whose level sways."""
    return bring_in(bench, sessions.create(bench, "Sway"), write_sound(tmp_path / "sway.wav", wavering()))
