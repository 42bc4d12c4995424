"""Builds the demo sessions through the same import that a person's files take, then writes the words to the phrases."""

from __future__ import annotations

import tempfile
from itertools import pairwise
from pathlib import Path

import numpy as np

from nivelus.core.errors import NivelusError
from nivelus.core.sound.writer import SoundWriter
from nivelus.demo.scenario import FEATURE_TURNS, GUIDE
from nivelus.demo.voices import RATE, Sound, Words, sing, speak, speak_turns
from nivelus.services import jobs, sessions
from nivelus.services.imports import run_import, stage_file
from nivelus.services.levels import clips_of
from nivelus.services.workbench import Workbench
from nivelus.store.tables import Change, Recording, Session, Track

PROGRAMME_LEVEL = -23.0


def build_demo(bench: Workbench) -> list[str]:
    """Build the three demo sessions; their ids. The one to begin with comes last, so that it is listed first."""
    song, song_words = sing()
    turns = [(line, "Narrator" if line.voice.startswith("n") else "Mill keeper") for line in FEATURE_TURNS]
    feature, feature_words = speak_turns(turns, {"Narrator": (-64.0, 21), "Mill keeper": (-60.0, 22)})
    guide, guide_words = speak(GUIDE)
    return [
        _session(bench, "Corvane shore, sung", {"Singer": (song, song_words)}),
        _session(bench, "Sallow Mill feature", {name: (feature[name], feature_words[name]) for name in feature}),
        _session(bench, "Pellowmere audio guide", {GUIDE.name: (guide, guide_words)}),
    ]


def _session(bench: Workbench, name: str, tracks: dict[str, tuple[Sound, list[Words]]]) -> str:
    session_id = sessions.create(bench, name)
    for track, (sound, words) in tracks.items():
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / f"{track}.wav"
            with SoundWriter(path, RATE, 1, "wav", 24) as writer:
                writer.write(np.clip(sound, -0.999, 0.999)[:, None])
            job = stage_file(bench, session_id, path)
        run_import(bench, job.id)
        done = jobs.view_job(jobs.get(bench, job.id))
        if done.state != "done" or done.track is None:
            raise NivelusError(f"The demo could not be built. {done.message}")
        _write_words(bench, done.track, words)
        jobs.dismiss(bench, job.id)
    _settle(bench, session_id)
    return session_id


def _write_words(bench: Workbench, track_id: str, words: list[Words]) -> None:
    """Give each phrase its share of the line that it belongs to, in proportion to its length, at word borders."""
    with bench.database.writing() as db:
        track = db.get(Track, track_id)
        assert track is not None
        recording = db.get(Recording, track.recording_id)
        assert recording is not None
        rate = recording.sample_rate
        for line in words:
            inside = [
                clip
                for clip in clips_of(db, track)
                if clip.phrase_start is not None
                and clip.phrase_end is not None
                and line.start - 0.1 <= (clip.phrase_start + clip.phrase_end) / 2 / rate <= line.end + 0.1
            ]
            lengths = [float((clip.phrase_end or 0) - (clip.phrase_start or 0)) for clip in inside]
            for clip, text in zip(inside, share_words(line.text, lengths), strict=True):
                clip.label = text


def share_words(text: str, lengths: list[float]) -> list[str]:
    """Divide a text among phrases of these lengths; where a comma or full stop is near, there."""
    words = text.split()
    ends = np.cumsum([len(word) + 1 for word in words], dtype=np.float64)
    borders = [0]
    for share in np.cumsum(lengths)[:-1] / max(sum(lengths), 1e-9):
        cost = np.abs(ends - share * ends[-1]) - np.array([14.0 * word.endswith((",", ".", "?", ":")) for word in words])
        borders.append(max(borders[-1], int(np.argmin(cost)) + 1))
    borders.append(len(words))
    return [" ".join(words[a:b]) for a, b in pairwise(borders)][: len(lengths)]


def _settle(bench: Workbench, session_id: str) -> None:
    """A demo aims at programme level (EBU R 128) and begins as if its recordings had always been there."""
    from sqlalchemy import delete
    from sqlmodel import col

    with bench.database.writing() as db:
        db.execute(delete(Change).where(col(Change.session_id) == session_id))
        session = db.get(Session, session_id)
        assert session is not None
        session.target, session.revision = PROGRAMME_LEVEL, 0
