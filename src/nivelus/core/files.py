"""Files by name: what may be read, and writing so that a file under its final name is always whole.

What is written stands under a temporary name beside the final one until it is complete and flushed. Leaving the block by
an exception removes it, and so does the end of the program, unless that is killed outright. Who ends the program without
unwinding it calls ``clear_parts``.
"""

from __future__ import annotations

import atexit
import errno
import os
import secrets
import shutil
import stat
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from nivelus.core.errors import DiskFull, FileError, Taken

FULL = {errno.ENOSPC, errno.EDQUOT, errno.EFBIG}
"""What the operating system says when a disk, a quota or the largest file is full."""
_KINDS = {
    stat.S_IFDIR: "is a folder",
    stat.S_IFIFO: "is a pipe",
    stat.S_IFSOCK: "is a socket",
    stat.S_IFCHR: "is a device",
    stat.S_IFBLK: "is a device",
}
_parts: set[Path] = set()
_folders: set[Path] = set()


def check_readable(path: Path) -> None:
    """Make sure that a path names a file that can be read, without opening what could block.

    Raises
    ------
    FileError
        If nothing is there, if it is a folder, a pipe or a device, or if it may not be read.
    """
    try:
        mode = path.stat().st_mode
    except OSError as error:
        if error.errno == errno.ELOOP:
            raise FileError(f"“{path}” is a link that leads in a circle. Name the file itself.") from None
        if path.is_symlink():
            raise FileError(f"“{path}” is a link to a file that is not there.") from None
        if error.errno in (errno.ENOENT, errno.ENOTDIR, errno.ENAMETOOLONG):
            raise FileError(f"“{path}” is not there. Check the name.") from None
        raise FileError(f"“{path}” cannot be read: {error.strerror}.") from None
    except ValueError:
        raise FileError(f"“{path}” is no name that a file can have.") from None
    if not stat.S_ISREG(mode):
        what = _KINDS.get(stat.S_IFMT(mode), "is no file")
        raise FileError(f"“{path}” {what}, not a file. Name a file.")
    if not os.access(path, os.R_OK):
        raise FileError(f"“{path}” may not be read by you. Change its permissions, or copy it.")


def is_full(error: BaseException) -> bool:
    """Whether an error means that there is no room left to write."""
    return isinstance(error, OSError) and error.errno in FULL


def disk_full(path: Path) -> DiskFull:
    """What to say when there is no room left where ``path`` lies."""
    return DiskFull(f"The disk is full: {_folder(path)} has no room left. Make room there and do it again; nothing was lost.")


def free_bytes(path: Path) -> int:
    """Room that is left where a file is or would be, in bytes."""
    found = os.statvfs(_folder(path))
    return found.f_bavail * found.f_frsize


def size_in_words(size: float) -> str:
    """A number of bytes as a person reads it."""
    for unit, factor in (("GB", 1e9), ("MB", 1e6)):
        if size >= factor:
            return f"{size / factor:.1f} {unit}"
    return f"{size / 1e3:.0f} kB"


@contextmanager
def whole_file(path: Path, replace: bool = True) -> Iterator[Path]:
    """Write a file whole or not at all: the block writes to the temporary path that it is given.

    Parameters
    ----------
    path : final name
    replace : whether it may take the place of a file that is there

    Raises
    ------
    Taken
        If there is a file of that name by now and it may not be replaced; that one stays as it is.
    DiskFull
        If there is no room for it.
    """
    part = path.with_name(f".{path.name[:100]}.{secrets.token_hex(4)}.part")
    _parts.add(part)
    try:
        yield part
        with part.open("rb") as handle:
            os.fsync(handle.fileno())
        _publish(part, path, replace)
    except OSError as error:
        if is_full(error):
            raise disk_full(path) from error
        raise
    finally:
        part.unlink(missing_ok=True)
        _parts.discard(part)


def link_or_copy(file: Path, name: Path) -> None:
    """Have a file under another name as well, at no cost where the file system has links."""
    try:
        os.link(file, name)
    except OSError:
        shutil.copyfile(file, name)


@contextmanager
def passing_folder() -> Iterator[Path]:
    """A folder for files that are needed within the block only; it goes with the block, or with the program."""
    folder = Path(tempfile.mkdtemp(prefix="nivelus-"))
    _folders.add(folder)
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)
        _folders.discard(folder)


def _publish(part: Path, path: Path, replace: bool) -> None:
    if replace:
        part.replace(path)
        return
    try:
        try:
            os.link(part, path)
        except FileExistsError:
            raise
        except OSError:
            # a file system without links: the name is taken first, which fails where there is one
            os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o666))
            part.replace(path)
    except FileExistsError:
        raise Taken(f"“{path}” has appeared meanwhile. It stays as it is; choose another output.") from None


def _folder(path: Path) -> Path:
    """The nearest folder that is there."""
    for folder in (path, *path.parents):
        if folder.is_dir():
            return folder
    return Path()


@atexit.register
def clear_parts() -> None:
    """Remove what is half-written now; for the end of the program."""
    for part in list(_parts):
        # on a disk that may only be read by now nothing can be removed, and nobody is left to hear of it
        with suppress(OSError):
            part.unlink(missing_ok=True)
    for folder in list(_folders):
        shutil.rmtree(folder, ignore_errors=True)
