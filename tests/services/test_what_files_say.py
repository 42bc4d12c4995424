"""What a recording says besides its sound, through a session: it comes out with the render, and its markers go with clips."""

from __future__ import annotations

import shutil
from pathlib import Path

from nivelus.core.sound.riff import Marker, chunks_of, markers_of, read_chunks
from nivelus.services.clips import moves
from nivelus.services.files import renders
from nivelus.services.sessions import sessions
from nivelus.services.track.workbench import Workbench
from tests.conftest import RATE, bring_in, uneven_voice, write_sound
from tests.helpers.files import say


def markers_rendered(bench: Workbench, track: str) -> list[tuple[float, bytes]]:
    """Where the markers of a track lie in its render, in seconds, and what they are called."""
    job = renders.request(bench, track, "wav", 24, False)
    renders.run_render(bench, job.id)
    path, _ = renders.rendered_file(bench, job.id)
    return [(marker.at / RATE, dict(marker.said)[b"labl"].rstrip(b"\0")) for marker in markers_of(read_chunks(path))]


def test_markers_of_a_recording_go_with_its_phrases(bench: Workbench, tmp_path: Path) -> None:
    source = write_sound(tmp_path / "said.wav", uneven_voice((-20.0, -26.0)))
    session = sessions.create(bench, "Said")
    plain = bring_in(bench, session, source)
    first, second = [clip for clip in sessions.state(bench, session).clips if clip.phrase_start is not None]
    inside = [round(((clip.phrase_start or 0) + 0.2) * RATE) for clip in (first, second)]
    markers = [Marker(at, 0, ((b"labl", name + b"\0"),)) for at, name in zip(inside, (b"one", b"two"), strict=True)]
    said = say(Path(shutil.copy(source, tmp_path / "with markers.wav")), chunks_of(markers))
    assert markers_rendered(bench, plain) == []

    track = bring_in(bench, session, said)
    assert markers_rendered(bench, track) == [(inside[0] / RATE, b"one"), (inside[1] / RATE, b"two")]
    state = sessions.state(bench, session)
    clip = next(one for one in reversed(state.clips) if one.track == track and one.phrase_start is not None)
    moves.move(bench, track, state.revision, [clip.id], 1.0)
    assert markers_rendered(bench, track) == [(inside[0] / RATE, b"one"), (inside[1] / RATE + 1.0, b"two")]
    sessions.undo(bench, session, sessions.state(bench, session).revision)
    assert markers_rendered(bench, track) == [(inside[0] / RATE, b"one"), (inside[1] / RATE, b"two")]
