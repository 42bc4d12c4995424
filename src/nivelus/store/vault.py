"""The vault: recordings as files, stored once by content hash, and what was measured of them.

``<data>/vault/ab/abcd.../`` holds ``source.<suffix>``, ``grid.npy`` and ``wave.npy``. A recording is put together in a
temporary folder, flushed and moved into place in one step, so a folder under its final name is always whole.
``<data>/incoming/`` holds uploads until they are imported, ``<data>/renders/`` finished renders.
"""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
import numpy.typing as npt

from nivelus.core.measure.grid import COLUMNS, LevelGrid
from nivelus.core.measure.waveform import pyramid
from nivelus.store.tables import Recording

SUFFIX = {
    "WAV": "wav",
    "WAVEX": "wav",
    "RF64": "wav",
    "AIFF": "aiff",
    "FLAC": "flac",
    "OGG": "ogg",
    "MP3": "mp3",
    "MPEG": "mp3",
}


class Vault:
    """The files under one data folder."""

    def __init__(self, data: Path) -> None:
        self.root = data / "vault"
        self.incoming = data / "incoming"
        self.renders = data / "renders"
        for folder in (self.root, self.incoming, self.renders):
            folder.mkdir(parents=True, exist_ok=True)

    def folder(self, hash: str) -> Path:
        """Where the recording with this content lies."""
        return self.root / hash[:2] / hash

    def source(self, recording: Recording) -> Path:
        """The sound file of a recording."""
        return self.folder(recording.hash) / f"source.{recording.suffix}"

    def grid(self, recording: Recording) -> LevelGrid:
        """The level grid of a recording, mapped from its file."""
        data = np.load(self.folder(recording.hash) / "grid.npy", mmap_mode="r")
        return LevelGrid(data, recording.sample_rate, recording.frames, recording.channels)

    def is_measured(self, recording: Recording) -> bool:
        """Whether everything that is measured of a recording is there, by this version's measure."""
        folder = self.folder(recording.hash)
        if not (folder / "grid.npy").exists() or not (folder / "wave.npy").exists():
            return False
        return bool(np.load(folder / "grid.npy", mmap_mode="r").shape[1] == len(COLUMNS))

    def wave(self, recording: Recording) -> npt.NDArray[np.float16]:
        """The waveform pyramid of a recording, see ``core.measure.waveform``; mapped from its file."""
        data: npt.NDArray[np.float16] = np.load(self.folder(recording.hash) / "wave.npy", mmap_mode="r")
        return data

    def add(self, staged: Path, hash: str, suffix: str, grid: LevelGrid, wave: npt.NDArray[np.float32]) -> None:
        """Put a staged upload and what was measured of it into the vault; all of it or nothing.

        The staged file stays until its track is in the database: whoever is killed in between can begin again.
        """
        final = self.folder(hash)
        if final.exists():
            return
        part = self.root / f"part-{staged.name}"
        shutil.rmtree(part, ignore_errors=True)
        part.mkdir()
        write_measured(part, grid, wave)
        try:
            os.link(staged, part / f"source.{suffix}")
        except OSError:
            # a file system without links
            shutil.copyfile(staged, part / f"source.{suffix}")
        final.parent.mkdir(exist_ok=True)
        part.replace(final)
        _sync(final.parent)

    def remove(self, hash: str) -> None:
        """Delete a recording's files."""
        shutil.rmtree(self.folder(hash), ignore_errors=True)

    def hashes(self) -> set[str]:
        """Content hashes of everything in the vault; leftovers of work that was killed are cleared away on the way."""
        found: set[str] = set()
        for entry in self.root.iterdir():
            if entry.name.startswith("part-"):
                shutil.rmtree(entry, ignore_errors=True)
            elif entry.is_dir():
                found.update(child.name for child in entry.iterdir() if child.is_dir())
        return found


def write_measured(folder: Path, grid: LevelGrid, wave: npt.NDArray[np.float32]) -> None:
    """Write the level grid and the waveform pyramid into ``folder`` under temporary names, flush, rename."""
    for name, data in (("grid.npy", grid.data), ("wave.npy", pyramid(wave))):
        part = folder / f".{name}.part"
        with part.open("wb") as handle:
            np.save(handle, data)
            handle.flush()
            os.fsync(handle.fileno())
        part.replace(folder / name)


def hash_file(path: Path, progress: Callable[[float], None] | None = None) -> str:
    """SHA-256 of a file's content, read in blocks of 4 MiB."""
    digest = hashlib.sha256()
    size, done = max(1, path.stat().st_size), 0
    with path.open("rb") as handle:
        while block := handle.read(1 << 22):
            digest.update(block)
            done += len(block)
            if progress:
                progress(done / size)
    return digest.hexdigest()


def _sync(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
