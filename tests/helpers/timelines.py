"""Looking at what lies on timelines, for tests."""

from __future__ import annotations

import numpy as np

from nivelus.core.sound.timeline import open_sound
from nivelus.services.sessions import sessions
from nivelus.services.track import sound
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed, ClipView
from nivelus.store.tables import Track


def state_of(bench: Workbench, session: str) -> Changed:
    return sessions.state(bench, session)


def voiced(state: Changed, track: str) -> list[ClipView]:
    return [clip for clip in state.clips if clip.track == track and clip.phrase_start is not None]


def heard(bench: Workbench, track: str) -> np.ndarray:
    """A track as it is rendered, before the fader."""
    source, _, state, _ = sound.render_source(bench, track)
    with open_sound(source) as reader:
        samples = reader.read(0, reader.info.frames)
    gain = np.interp(np.arange(len(samples)), state.gain.at, state.gain.db)
    return samples[:, 0] * 10 ** (gain / 20)


def plain(bench: Workbench, track: str) -> np.ndarray:
    """A track without gain, as the page hears it."""
    (timeline,) = (t.timeline for t in sessions.state(bench, session_of(bench, track)).tracks if t.id == track)
    blocks = [sound.samples(bench, track, timeline.key, at, 1 << 18) for at in range(0, timeline.frames, 1 << 18)]
    return np.concatenate(blocks)[:, 0]


def session_of(bench: Workbench, track: str) -> str:
    with bench.database.reading() as db:
        row = db.get(Track, track)
        assert row is not None
        return row.session_id


def own_of(bench: Workbench, track: str) -> str:
    with bench.database.reading() as db:
        row = db.get(Track, track)
        assert row is not None
        return row.recording_id
