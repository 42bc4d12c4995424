"""Builds the demo sessions through the same import that a person's files take, then writes the words to the phrases."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import numpy as np

from nivelus.core.errors import NivelusError
from nivelus.core.sound.bwf import Bext
from nivelus.core.sound.writer import SoundWriter
from nivelus.demo.bed import make_bed
from nivelus.demo.scenario import FEATURE_BEGINS, FEATURE_TURNS, GUIDE, KEEPER_LATE, SONG_TAKES
from nivelus.demo.voices import RATE, Sound, Words, sing, speak, speak_turns
from nivelus.services.clips.arranging import arrange
from nivelus.services.files.imports import run_import, stage_file
from nivelus.services.sessions import jobs, sessions
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.levels import clips_of
from nivelus.store.tables import Change, Recording, Session, Track

PROGRAMME_LEVEL = -23.0


@dataclass(frozen=True, slots=True)
class Voice:
    """A recording of a demo: its name, its sound, what is said in it by the session's time, and when it was begun."""

    name: str
    sound: Sound
    words: list[Words]
    stamp: float | None = None


def build_demo(bench: Workbench) -> list[str]:
    """Build the three demo sessions; their ids. The one to begin with comes last, so that it is listed first."""
    song = [Voice(take.name, *sing(take)) for take in SONG_TAKES]
    turns = [(line, "Narrator" if line.voice.startswith("n") else "Mill keeper") for line in FEATURE_TURNS]
    feature, words = speak_turns(turns, {"Narrator": (-64.0, 21), "Mill keeper": (-60.0, 22)})
    # two recorders, one started after the other: their start stamps say where they lie
    begins = {"Narrator": 0.0, "Mill keeper": KEEPER_LATE}
    voices = [
        Voice(name, feature[name][round(begins[name] * RATE) :], words[name], FEATURE_BEGINS + begins[name]) for name in feature
    ]
    guide, guide_words = speak(GUIDE)
    bed = Voice("Sea and harbour", make_bed(len(guide) / RATE + 2.0), [])
    return [
        _session(bench, "Corvane shore, sung", song, "takes"),
        _session(bench, "Sallow Mill feature", voices, "stamps"),
        _session(bench, "Pellowmere audio guide", [Voice(GUIDE.name, guide, guide_words), bed]),
    ]


def _session(bench: Workbench, name: str, voices: list[Voice], way: str | None = None) -> str:
    session_id = sessions.create(bench, name)
    tracks = [_brought_in(bench, session_id, voice) for voice in voices]
    if way is not None:
        revision = sessions.state(bench, session_id).revision
        arrange(bench, session_id, revision, tracks, way)
    for place, voice in enumerate(voices):
        track, take = (tracks[0], place) if way == "takes" else (tracks[place], 0)
        _write_words(bench, track, take, voice.words)
    _settle(bench, session_id)
    return session_id


def _brought_in(bench: Workbench, session_id: str, voice: Voice) -> str:
    """The track of a recording that was brought in as a person's file is."""
    stamp = None if voice.stamp is None else Bext(time_reference=round(voice.stamp * RATE))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"{voice.name}.wav"
        sound = voice.sound.reshape(len(voice.sound), -1)
        with SoundWriter(path, RATE, sound.shape[1], "wav", 24, stamp) as writer:
            writer.write(np.clip(sound, -0.999, 0.999))
        job = stage_file(bench, session_id, path)
    run_import(bench, job.id)
    done = jobs.view_job(jobs.get(bench, job.id))
    if done.state != "done" or done.track is None:
        raise NivelusError(f"The demo could not be built. {done.message}")
    jobs.dismiss(bench, job.id)
    return done.track


def _write_words(bench: Workbench, track_id: str, take: int, words: list[Words]) -> None:
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
                for clip in clips_of(db, track, take)
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
