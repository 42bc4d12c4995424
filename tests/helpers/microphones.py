"""A voice that two microphones hear."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import soundfile

from nivelus.services.clips import details, drafts
from nivelus.services.files import renders
from nivelus.services.lanes import drawing, whole
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from tests.conftest import RATE, bring_in, write_sound
from tests.helpers.timelines import session_of, state_of

LATE = 37
"""Samples by which the voice comes to the second microphone later."""


def second_microphone(voice: np.ndarray) -> np.ndarray:
    """The voice as it comes to a microphone that is a little further away."""
    late = np.concatenate([np.zeros(LATE), voice[:-LATE]])
    return 0.5 * late + 0.1 * np.concatenate([np.zeros(90), late[:-90]])


def bring(bench: Workbench, session: str, path: Path, samples: np.ndarray, rate: int = RATE) -> str:
    return bring_in(bench, session, write_sound(path, samples, rate, "FLOAT"))


def work_on(bench: Workbench, lead: str) -> Changed:
    """Even out, turn details down, draw and trim: every layer of the gain does something."""
    state = state_of(bench, session_of(bench, lead))
    state = drafts.accept(bench, lead, state.revision)
    for kind in ("breath", "ess", "gap"):
        state = details.set_rule(bench, lead, state.revision, kind, {"on": True})
    state = drawing.lift_span(bench, lead, state.revision, "ride", 1.1, 1.7, 2.5)
    state = drawing.lift_span(bench, lead, state.revision, "curve", 3.1, 3.6, -1.5)
    return whole.set_trim(bench, lead, state.revision, -0.7)


def gains(bench: Workbench, *ids: str) -> list[np.ndarray]:
    found = []
    for id in ids:
        _, _, state, _ = sound.render_source(bench, id)
        found.append(np.interp(np.arange(state.samples), state.gain.at, state.gain.db))
    return found


def render(bench: Workbench, track: str, folder: Path) -> np.ndarray:
    """The file of a render in 32-bit float."""
    job = renders.request(bench, track, "wav", 32, with_fader=False)
    renders.run_render(bench, job.id)
    path, _ = renders.rendered_file(bench, job.id)
    samples: np.ndarray = soundfile.read(path, dtype="float32")[0]
    return samples
