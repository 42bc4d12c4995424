"""Timelines: what of which recordings is heard of a track, read as if it were one recording.

Where a track is one recording from its beginning to its end, its grid is the file that was measured and its sound the file
that came. Any other one is composed when it is asked for, and kept by its key.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from sqlalchemy.orm import Session as DbSession

from nivelus.core.chain.following import follow_runs
from nivelus.core.chain.placing import Run, Runs
from nivelus.core.errors import NotFound, Refused
from nivelus.core.measure.compose import Part, compose, compose_wave
from nivelus.core.measure.grid import LevelGrid
from nivelus.core.measure.kernel import BINS_PER_FRAME
from nivelus.core.measure.waveform import pyramid
from nivelus.core.sound.timeline import Composed, Piece
from nivelus.services.track.latest import Newest
from nivelus.services.track.workbench import Workbench
from nivelus.store.clip_rows import Recorded
from nivelus.store.reading import clip_rows, recorded_by_id
from nivelus.store.tables import Track, takes_of
from nivelus.store.track_rows import heard_of_recordings

MISSING = "The sound file of this track is missing. Import it again."


@dataclass(frozen=True)
class Timeline:
    """What is heard of a track: ``runs`` of recordings, in order of time.

    ``recordings`` are those that are heard, by the ids that the runs have, and the track's own one, which is ``own``.
    """

    own: Recorded
    runs: Runs
    recordings: tuple[tuple[str | None, Recorded], ...]

    def recorded(self, id: str | None) -> Recorded:
        """A recording by the id that clips have; None stands for the track's own."""
        return self._by_id[id]

    @property
    def sample_rate(self) -> int:
        """Samples a second of all positions."""
        return self.own.sample_rate

    @cached_property
    def heard(self) -> tuple[Recorded, ...]:
        """The recordings that are heard, each once."""
        return tuple(dict.fromkeys(self.recorded(run.recording) for run in self.runs))

    @cached_property
    def frames(self) -> int:
        """The length in samples: to the end of the last clip."""
        return max((run.end for run in self.runs), default=self.own.frames)

    @property
    def duration(self) -> float:
        """The length in seconds."""
        return self.frames / self.sample_rate

    @property
    def channels(self) -> int:
        """As many as any recording that is heard has."""
        return max((recorded.channels for recorded in self.heard), default=self.own.channels)

    @property
    def missing(self) -> bool:
        """Whether the sound of anything that is heard is missing."""
        return any(recorded.missing for recorded in self.heard)

    @property
    def shows_esses(self) -> bool:
        """Whether anything lies high enough in what is heard for esses to be seen."""
        return any(recorded.shows_esses for recorded in self.heard)

    @property
    def room_tone(self) -> float:
        """The room tone, dBFS: that of each recording by how much of it is heard."""
        if not self.runs:
            return self.own.room_tone
        lengths = np.array([run.end - run.start for run in self.runs], np.float64)
        return float(np.average([self.recorded(run.recording).room_tone for run in self.runs], weights=lengths))

    @cached_property
    def is_whole(self) -> bool:
        """Whether it is one recording from beginning to end, and nothing else."""
        return self.runs == ((None, 0, 0, self.own.frames),)

    @cached_property
    def key(self) -> str:
        """What tells its sound from any other: the recording where it is whole, else what is heard where."""
        if self.is_whole:
            return self.own.id
        told = repr([(self.recorded(run.recording).hash, *run[1:]) for run in self.runs])
        return hashlib.blake2b(f"{self.sample_rate} {told}".encode(), digest_size=12).hexdigest()

    def span_of(self, id: str | None) -> int:
        """The length of a recording in samples of the track."""
        recorded = self.recorded(id)
        return -(-recorded.frames * self.sample_rate // recorded.sample_rate)

    @cached_property
    def _by_id(self) -> dict[str | None, Recorded]:
        return dict(self.recordings)


def timeline_of(db: DbSession, track: Track, take: int | None = None) -> Timeline:
    """The timeline of a track's take, of the one that is heard if none is named; in an edit, as it was before it.

    Raises NotFound where there is no such take.
    """
    if take is not None and take not in {item["number"] for item in takes_of(track)}:
        raise NotFound("This take no longer exists.")
    return timelines_of(db, [track], take)[0]


def timelines_of(db: DbSession, tracks: Sequence[Track], take: int | None = None) -> list[Timeline]:
    """The timelines of some tracks; a take is named of none that follows another."""
    leaders = {track.follows: leader_of(db, track) for track in tracks if track.follows}
    runs = [clip_rows(db, track.id, take).runs for track in tracks]
    ids = {track.recording_id for track in tracks} | {run.recording for own in runs for run in own if run.recording}
    known = recorded_by_id(db, ids | {leader.recording_id for leader in leaders.values() if leader is not None})
    timelines = []
    for track, own in zip(tracks, runs, strict=True):
        if track.recording_id not in known:
            raise NotFound("This recording no longer exists.", id=track.recording_id)
        used: dict[str | None, Recorded] = {None: known[track.recording_id]}
        used |= {run.recording: known[run.recording] for run in own if run.recording}
        if track.follows:
            own = _beside(db, track, used[None], leaders[track.follows], known)
        timelines.append(Timeline(used[None], own, tuple(used.items())))
    return timelines


def leader_of(db: DbSession, track: Track) -> Track | None:
    """The track that a track follows; None for one that follows none, or one that is gone."""
    return db.get(Track, track.follows) if track.follows else None


def _beside(db: DbSession, track: Track, own: Recorded, leader: Track | None, known: Mapping[str, Recorded]) -> Runs:
    """What is heard of a track that follows another, or where that is gone, all of its recording."""
    if leader is None or leader.recording_id not in known:
        return (Run(None, 0, 0, own.frames),)
    theirs = known[leader.recording_id]
    runs = clip_rows(db, leader.id).runs
    return follow_runs(runs, (theirs.sample_rate, theirs.frames), (own.sample_rate, own.frames), track.lag)


def recordings_of_takes(db: DbSession, track: Track) -> dict[int, list[str]]:
    """By the numbers of a track's takes, the recordings of which more is heard in it than in any other; "" is the track's own.

    Those of a single take are not told: nothing in it can be from elsewhere.
    """
    found: dict[int, list[str]] = {item["number"]: [] for item in takes_of(track)}
    if len(found) < 2:
        return found
    most: dict[str, tuple[int, int]] = {}
    for recording, take, samples in heard_of_recordings(db, track.id):
        most[recording or ""] = max(most.get(recording or "", (0, 0)), (samples, -take))
    for recording, (_, take) in sorted(most.items()):
        found[-take].append(recording)
    return found


# --- what is measured and read of it

_grids: Newest[LevelGrid] = Newest(3)
_waves: Newest[npt.NDArray[np.float16]] = Newest(3)


def grid_of(bench: Workbench, timeline: Timeline) -> LevelGrid:
    """The level grid of a timeline. Raises NotFound where something of it cannot be measured any more."""

    def opened() -> LevelGrid:
        if timeline.is_whole:
            return bench.vault.grid(timeline.own)
        grids = {recorded: bench.vault.grid(recorded) for recorded in timeline.heard}
        return compose(
            _parts(timeline),
            [grids[timeline.recorded(run.recording)] for run in timeline.runs],
            timeline.sample_rate,
            timeline.frames,
            timeline.channels,
        )

    return _grids.get(stamp_of(bench, timeline), opened)


def measurable(timeline: Timeline) -> None:
    """Raises Refused where something of a track is missing, so that nothing can be measured."""
    if timeline.missing:
        raise Refused(MISSING)


def wave_of(bench: Workbench, timeline: Timeline) -> tuple[npt.NDArray[np.float16], int]:
    """The waveform pyramid of a timeline, see ``core.measure.waveform``, and how many bins its finest level has."""
    if timeline.is_whole:
        return bench.vault.wave(timeline.own), len(bench.vault.grid(timeline.own).data) * BINS_PER_FRAME
    bins = len(grid_of(bench, timeline).data) * BINS_PER_FRAME

    def composed() -> npt.NDArray[np.float16]:
        waves = {}
        for recorded in timeline.heard:
            own = len(bench.vault.grid(recorded).data) * BINS_PER_FRAME
            waves[recorded] = bench.vault.wave(recorded)[:own]
        heard = [waves[timeline.recorded(run.recording)] for run in timeline.runs]
        return pyramid(compose_wave(_parts(timeline), heard, timeline.sample_rate, timeline.frames))

    return _waves.get(stamp_of(bench, timeline), composed), bins


def sound_of(bench: Workbench, timeline: Timeline) -> Path | Composed:
    """What the sound of a timeline is read from."""
    if timeline.is_whole:
        return bench.vault.source(timeline.own)
    pieces = (
        Piece(bench.vault.source(timeline.recorded(run.recording)), run.start, run.end, run.shift) for run in timeline.runs
    )
    return Composed(tuple(pieces), timeline.sample_rate, timeline.channels, timeline.frames)


def stamp_of(bench: Workbench, timeline: Timeline) -> tuple[Any, ...]:
    """What tells its grid from any other; one that was written anew is another one."""
    return bench.settings.data, timeline.key, *(bench.vault.stamp(recorded) for recorded in timeline.heard)


def _parts(timeline: Timeline) -> list[Part]:
    return [Part(run.start, run.end, run.shift) for run in timeline.runs]
