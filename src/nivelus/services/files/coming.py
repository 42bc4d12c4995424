"""A file on its way in, before it is measured: decoded if it has to be, and taken apart where it has many channels."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from sqlalchemy.orm import Session as DbSession

from nivelus.core.errors import UndecidedSound
from nivelus.core.measure.along import MeasuredAlong
from nivelus.core.measure.grid import LevelGrid, Wave
from nivelus.core.sound.channels import are_of_one_voice, in_words, split
from nivelus.core.sound.decoding import Decoded, damage, decode, read_info
from nivelus.core.sound.reader import SoundInfo, SoundReader
from nivelus.core.sound.refusals import MAX_CHANNELS, MOST_CHANNELS
from nivelus.services.sessions import jobs
from nivelus.services.track.workbench import Workbench
from nivelus.store.job_rows import open_payloads
from nivelus.store.tables import Job, new_id
from nivelus.store.track_rows import last_position

WAYS = ("Voices of their own", "Microphones of one voice")
"""What the channels of a file may be, as it is asked."""


@dataclass(frozen=True, slots=True)
class Coming:
    """A sound that comes in: the file to be measured, what it was decoded from, and what was measured meanwhile."""

    sound: Path
    decoded: Decoded | None = None
    measured: tuple[SoundInfo, LevelGrid, Wave] | None = None
    channels: int = 0
    """How many it has, where they are counted."""

    @property
    def is_apart(self) -> bool:
        """Whether it has more channels than a track."""
        return self.channels > MAX_CHANNELS


def as_it_is_read(bench: Workbench, job: Job, staged: Path) -> Coming:
    """A staged upload as a sound that is read.

    Raises
    ------
    FileError, SoundError
        If it is none; also UndecidedSound, where it has several sound tracks and none was chosen.
    """
    known = read_info(staged, job.name, MOST_CHANNELS)
    if known is not None:
        return Coming(staged, channels=known.channels)
    sound = bench.vault.decoded(job.id)
    before = job.payload.get("decoded")
    if before is not None and sound.exists():
        # whoever dropped it was only asked what its channels are
        decoded = Decoded(before["words"], (), before["damaged"], tuple(before["channels"]))
        return Coming(sound, decoded, channels=len(decoded.channels))
    report = jobs.reporter(bench, job, "decoding and measuring", 8, 92)
    with MeasuredAlong(job.name) as along:
        decoded = decode(staged, sound, job.name, job.payload.get("sound track"), report, along.take)
        if len(decoded.channels) > MAX_CHANNELS:
            return Coming(sound, decoded, channels=len(decoded.channels))
        grid, wave = along.result()
    with SoundReader(sound, job.name) as reader:
        return Coming(sound, decoded, (reader.info, grid, wave))


def take_apart(bench: Workbench, job: Job, coming: Coming) -> list[str]:
    """Make an import of each channel of a file; the ids of their jobs. The job itself is done with that.

    Raises
    ------
    SoundError, DiskFull
        If that cannot be; nothing is left of it then. Also UndecidedSound, where nobody said yet what the channels are.
    """
    ids: dict[int, str] = {}
    way = job.payload.get("channels")
    if way is None:
        raise UndecidedSound(
            f"“{job.name}” has {coming.channels} channels.",
            file=job.name,
            of="channels",
            options=list(WAYS),
            usual=int(are_of_one_voice(coming.sound, job.name)),
            kept={"decoded": asdict(coming.decoded)} if coming.decoded else {},
        )

    def target(number: int) -> Path:
        return bench.vault.incoming / ids.setdefault(number, new_id())

    report = jobs.reporter(bench, job, "taking its channels apart", 8 if coming.decoded is None else 92, 98)
    names = coming.decoded.channels if coming.decoded else ()
    try:
        channels = split(coming.sound, target, job.name, names, report)
        with bench.database.writing() as db:
            jobs.require_at_work(db, job)
            made = []
            sounding = [channel for channel in channels if channel.path is not None]
            tracks = [new_id() for _ in sounding]
            led = bool(way) and len(sounding) > 1
            for channel, track in zip(sounding, tracks, strict=True):
                assert channel.path is not None
                name = f"{Path(job.name).stem} {channel.name}"
                more: dict[str, Any] = {"place": next_place(db, job.session_id), "title": channel.name}
                if led:
                    first = track == tracks[0]
                    more |= {"own": track} | ({"followers": tracks[1:]} if first else {"leader": tracks[0]})
                one = jobs.new_job(job.session_id, "import", name, **more)
                one.id = channel.path.name
                db.add(one)
                db.flush()
                made.append(one.id)
            row = db.get(Job, job.id)
            if row is not None:
                row.state, row.percent, row.result = "done", 100.0, {"jobs": made}
                row.message = in_words(channels, job.name, sounding[0].name if led else "")
                if coming.decoded and coming.decoded.damaged:
                    row.message += f" {damage(job.name, coming.decoded.damaged)}"
    except BaseException:
        for id in ids.values():
            (bench.vault.incoming / id).unlink(missing_ok=True)
        raise
    if coming.decoded is not None:
        # what came stays with the first of what became of it
        (bench.vault.incoming / job.id).replace(bench.vault.original(made[0]))
    bench.vault.clear_job(job.id)
    return made


def next_place(db: DbSession, session_id: str) -> int:
    """The position of the track of a file that comes in now: behind all that are there, and all that are still being read."""
    last = last_position(db, session_id)
    taken = [int(payload.get("place", -1)) for payload in open_payloads(db, session_id)]
    return max(-1 if last is None else last, *taken, -1) + 1
