"""The vault: recordings as files, stored once by content hash, and what was measured of them.

``<data>/vault/ab/abcd.../`` holds ``source.<suffix>``, ``grid.npy``, ``wave.npy`` and ``about.json``, the name it came under;
beside a source that was decoded from another file that one, as ``original``.
A recording is put together in a temporary folder, flushed and moved into place in one step, so a folder under its final name
is always whole. What was measured can be measured again: where it is damaged or missing, it is, the next time it is asked
for. ``<data>/incoming/`` holds uploads until they are imported, ``<data>/renders/`` finished renders.
"""

from __future__ import annotations

import json
import os
import secrets
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import FileError, NotFound, SoundError
from nivelus.core.files import disk_full, is_full, link_or_copy, whole_file
from nivelus.core.measure.grid import COLUMNS, FRAMES_PER_SECOND, LevelGrid, frame_count, measure_file
from nivelus.core.measure.kernel import BINS_PER_FRAME
from nivelus.core.measure.waveform import pyramid
from nivelus.store.hashes import Plain

_PART, _GONE = "part-", "gone-"
DECODED, ORIGINAL = ".decoded", ".original"
"""Endings of what is decoded of an upload, and of the file that a channel was taken out of."""


class Stored(Protocol):
    """What the vault has to know of a recording; both its row and what was read of that are one."""

    @property
    def id(self) -> str: ...

    @property
    def hash(self) -> str: ...

    @property
    def suffix(self) -> str: ...

    @property
    def sample_rate(self) -> int: ...

    @property
    def channels(self) -> int: ...

    @property
    def frames(self) -> int: ...


class Damaged(Exception):  # noqa: N818
    """A file of the vault is not what it should be."""


class Older(Damaged):
    """It is missing, or was measured by an older version."""


@dataclass(frozen=True, slots=True)
class About:
    """What the vault itself knows of a recording: the name it came under, bytes, and seconds where it is measured."""

    name: str
    size: int
    length: float | None


def source_file(data: Path, hash: str, suffix: str) -> Path:
    """Where the sound of a recording lies in a data folder."""
    return data / "vault" / hash[:2] / hash / f"source.{suffix}"


class Vault:
    """The files under one data folder."""

    def __init__(self, data: Path) -> None:
        self.root = data / "vault"
        self.incoming = data / "incoming"
        self.renders = data / "renders"
        for folder in (self.root, self.incoming, self.renders):
            folder.mkdir(parents=True, exist_ok=True)

    # --- recordings

    def folder(self, hash: str) -> Path:
        """Where the recording with this content lies."""
        return self.root / hash[:2] / hash

    def source(self, recording: Stored) -> Path:
        """The sound file of a recording."""
        return source_file(self.root.parent, recording.hash, recording.suffix)

    def sound_of(self, hash: str) -> Path | None:
        """The sound file that lies under a hash, whatever its format."""
        return next(iter(sorted(self.folder(hash).glob("source.*"))), None)

    def about(self, hash: str) -> About | None:
        """What is known of a recording without the database; None if there is no sound under this hash."""
        sound = self.sound_of(hash)
        if sound is None:
            return None
        try:
            kept = json.loads((sound.parent / "about.json").read_bytes())
            name = str(kept["name"])
        except (OSError, ValueError, KeyError, TypeError):
            name = f"Recording {hash[:6]}{sound.suffix}"
        try:
            length = len(_array(sound.parent / "grid.npy", np.float32, len(COLUMNS))) / FRAMES_PER_SECOND
        except Damaged:
            length = None
        return About(name, sound.stat().st_size, length)

    def hashes(self) -> set[str]:
        """Content hashes of all sound in the vault."""
        return {path.parent.name for path in self.root.glob("??/*/source.*")}

    def is_newer(self, hash: str, moment: datetime) -> bool:
        """Whether a recording was put here after a moment (UTC, without a zone as the database keeps it)."""
        try:
            made = self.folder(hash).stat().st_ctime
        except OSError:
            return True
        return made > moment.replace(tzinfo=UTC).timestamp()

    def add(
        self,
        staged: Path,
        hash: str,
        suffix: str,
        grid: LevelGrid,
        wave: npt.NDArray[np.float16],
        name: str,
        original: Path | None = None,
    ) -> bool:
        """Put a staged file and what was measured of it into the vault; all of it or nothing. Whether it was not there yet.

        The staged file stays until its track is in the database: whoever is killed in between can begin again.

        Parameters
        ----------
        staged : the sound
        hash, suffix : of its content, and its format
        grid, wave : what was measured
        name : under which it came
        original : the file that it was decoded from, if it was
        """
        final = self.folder(hash)
        if self.sound_of(hash) is not None:
            return False
        part = self.root / f"{_PART}{staged.name}"
        shutil.rmtree(part, ignore_errors=True)
        try:
            part.mkdir()
            write_measured(part, grid, wave)
            (part / "about.json").write_text(json.dumps({"name": name}), "utf-8")
            link_or_copy(staged, part / f"source.{suffix}")
            if original is not None:
                link_or_copy(original, part / "original")
            final.parent.mkdir(exist_ok=True)
            if final.exists():
                # its sound was lost or set aside: what is left of it goes the same way
                final.replace(self.root / f"{_GONE}{secrets.token_hex(4)}")
            part.replace(final)
        except BaseException as error:
            shutil.rmtree(part, ignore_errors=True)
            if is_full(error):
                raise disk_full(final) from error
            raise
        _sync(final.parent)
        self.clear_taken_out()
        return True

    def take_out(self, hash: str) -> None:
        """Take a recording out of the vault, at once and whole; its files go with ``clear_taken_out``."""
        if self.folder(hash).exists():
            self.folder(hash).replace(self.root / f"{_GONE}{secrets.token_hex(4)}")

    def set_aside(self, recording: Stored) -> None:
        """Give a sound file that is not what was brought in another name, so that the right one can take its place."""
        source = self.source(recording)
        source.replace(source.with_name(f"damaged-{source.name}"))

    # --- what was measured

    def grid(self, recording: Stored) -> LevelGrid:
        """The level grid of a recording, mapped from its file. Raises NotFound if it cannot be measured any more."""
        data = self._measured(recording, "grid.npy")
        return LevelGrid(data, recording.sample_rate, recording.frames, recording.channels)

    def stamp(self, recording: Stored) -> tuple[int, int, int]:
        """What tells the stored grid of a recording from one that was written later. Raises NotFound as ``grid`` does."""
        path = self.folder(recording.hash) / "grid.npy"
        try:
            told = path.stat()
        except FileNotFoundError:
            self.measure_again(recording)
            told = path.stat()
        return told.st_ino, told.st_mtime_ns, told.st_size

    def wave(self, recording: Stored) -> npt.NDArray[np.float16]:
        """The waveform pyramid of a recording, see ``core.measure.waveform``; mapped from its file."""
        data: npt.NDArray[np.float16] = self._measured(recording, "wave.npy")
        return data

    def check_measured(self, recording: Stored, thorough: bool = False) -> None:
        """Make sure that everything measured of a recording is there and whole. Raises Damaged, and Older where it is.

        Of its numbers some are looked at, and all of them where it is to be ``thorough``.
        """
        for name in _MEASURED:
            data = self._load(recording, name)
            if not np.isfinite(data if thorough else data[::_SOME]).all():
                raise Damaged(name)

    def measure_again(self, recording: Stored) -> None:
        """Measure a recording from its sound. Raises NotFound if that cannot be read."""
        source = self.source(recording)
        try:
            _, grid, wave = measure_file(source)
        except (SoundError, FileError, OSError) as error:
            raise NotFound("This sound file is missing or damaged. Import it again.", id=recording.id) from error
        write_measured(source.parent, grid, wave)

    def _measured(self, recording: Stored, name: str) -> Any:
        try:
            return self._load(recording, name)
        except Damaged:
            self.measure_again(recording)
            return self._load(recording, name)

    def _load(self, recording: Stored, name: str) -> Any:
        kind, width = _MEASURED[name]
        data = _array(self.folder(recording.hash) / name, kind, width)
        rows = frame_count(recording.frames, recording.sample_rate)
        if name == "grid.npy" and len(data) != rows:
            raise Damaged(name)
        if name == "wave.npy" and len(data) < rows * BINS_PER_FRAME:
            raise Damaged(name)
        return data

    # --- jobs and leftovers

    def job_files(self, job_id: str) -> Iterator[Path]:
        """The upload of a job, what was decoded of it, and what it has rendered, finished or not."""
        yield self.incoming / job_id
        yield self.decoded(job_id)
        yield self.original(job_id)
        yield from self.incoming.glob(f".{self.decoded(job_id).name}.*")
        for name in (f"{job_id}.*", f".{job_id}.*"):
            yield from self.renders.glob(name)

    def decoded(self, job_id: str) -> Path:
        """Where the upload of a job is decoded to, if it has to be."""
        return self.incoming / f"{job_id}{DECODED}"

    def original(self, job_id: str) -> Path:
        """Where the file lies that the upload of a job was decoded and taken out of, if it was."""
        return self.incoming / f"{job_id}{ORIGINAL}"

    def clear_job(self, job_id: str) -> None:
        """Remove what belongs to a job."""
        for path in self.job_files(job_id):
            path.unlink(missing_ok=True)
        shutil.rmtree(self.root / f"{_PART}{job_id}", ignore_errors=True)

    def clear_parts(self) -> None:
        """Remove what was being put together when the program was killed. Not while an import is at work."""
        for part in self.root.glob(f"{_PART}*"):
            shutil.rmtree(part, ignore_errors=True)

    def clear_taken_out(self) -> None:
        """Remove the files of what was taken out."""
        for gone in self.root.glob(f"{_GONE}*"):
            shutil.rmtree(gone, ignore_errors=True)


_SOME = 97
"""One in so many frames is looked at where not all are."""
_MEASURED: dict[str, tuple[Any, int]] = {"grid.npy": (np.float32, len(COLUMNS)), "wave.npy": (np.float16, 2)}


def write_measured(folder: Path, grid: LevelGrid, wave: npt.NDArray[np.float16]) -> None:
    """Write the level grid and the waveform pyramid into ``folder``, each whole or not at all."""
    for name, data in (("grid.npy", grid.data), ("wave.npy", pyramid(wave))):
        with whole_file(folder / name) as part, part.open("wb") as handle:
            np.save(Plain(handle), data)


def _array(path: Path, kind: Any, width: int) -> Any:
    """A table mapped from its file. Raises Damaged if it is missing, cut short, or anything else than that."""
    try:
        data = np.load(path, mmap_mode="r", allow_pickle=False)
        fits = data.ndim == 2 and data.dtype == kind and data.shape[1] == width
    except FileNotFoundError as error:
        raise Older(path.name) from error
    except Exception as error:
        # whatever is in such a file, and numpy has many words for it, means that it is not ours
        raise Damaged(path.name) from error
    if not fits:
        raise Older(path.name)
    return data


def _sync(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
