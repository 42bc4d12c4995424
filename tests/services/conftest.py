"""What several tests of the services work on."""

from __future__ import annotations

from pathlib import Path
from random import Random

import pytest

from nivelus.services.clips import following
from nivelus.services.sessions import sessions
from nivelus.services.track.workbench import Workbench
from tests.conftest import bring_in, detailed_voice, write_sound
from tests.helpers.microphones import bring, second_microphone
from tests.helpers.sounds import wavering


@pytest.fixture
def known_ids(monkeypatch: pytest.MonkeyPatch) -> None:
    """Ids that are the same in every run, so that random edits that found something find it again."""
    random = Random(0)
    monkeypatch.setattr("secrets.token_urlsafe", lambda length: f"{random.getrandbits(8 * length):0{2 * length}x}")


@pytest.fixture
def swaying(bench: Workbench, tmp_path: Path) -> str:
    """A track of three phrases whose level sways."""
    return bring_in(bench, sessions.create(bench, "Sway"), write_sound(tmp_path / "sway.wav", wavering()))


@pytest.fixture
def pair(bench: Workbench, tmp_path: Path) -> tuple[str, str]:
    """A voice, and the same by another microphone that follows it."""
    session, voice = sessions.create(bench, "Two microphones"), detailed_voice()
    lead = bring(bench, session, tmp_path / "boom.wav", voice)
    other = bring(bench, session, tmp_path / "lapel.wav", second_microphone(voice))
    following.follow(bench, other, sessions.state(bench, session).revision, lead)
    return lead, other
