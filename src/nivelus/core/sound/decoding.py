"""Sound that libsndfile does not read - a memo of a telephone, the sound of a video - decoded once into a WAV file.

Decoding is FFmpeg's, through PyAV, in a process of its own that may open and write nothing (``core.sound.decoder``). Samples
are kept as they are decoded: integers as integers of the same size, everything else as 32-bit float. They lie where the file
says: priming and edit lists are respected, a sound track that begins later than the pictures has silence before it, and
silence stands in a hole. A packet that cannot be decoded is such a hole. Where the format changes on the way it is brought to
what it began with.
"""

from __future__ import annotations

import fcntl
import json
import os
import select
import struct
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from nivelus.core.errors import NotSound, SoundError, UndecidedSound, UnfitSound
from nivelus.core.files import passing_folder
from nivelus.core.sound.flac import cover_chunks
from nivelus.core.sound.pcm import CODINGS, from_coded
from nivelus.core.sound.reader import Samples, SoundInfo, SoundReader
from nivelus.core.sound.refusals import (
    MAX_CHANNELS,
    MOST_CHANNELS,
    cut_short,
    no_samples,
    not_sound,
    too_many,
    unfit_rate,
)
from nivelus.core.sound.riff import Chunk, Marker, chunks_of, tag_chunks
from nivelus.core.sound.writer import CodedWriter
from nivelus.core.sound_formats import DEMUXERS, of_demuxer
from nivelus.core.stopping import step
from nivelus.core.words import printable

_SILENT_SECONDS = 120.0
"""A decoder that says nothing for so long never will."""
_MESSAGE = 1 << 28
"""Bytes of a message; what claims to be longer is none."""
_SHORT_SECONDS = 0.5
"""What ends more than this before its file says is cut short."""
MOST_TRACKS = 64
"""Sound tracks of a file; the decoder is told."""

_WHY: dict[str, tuple[type[SoundError], str]] = {
    "locked": (NotSound, "is copy-protected and cannot be read. Ask for a copy without protection."),
    "none": (NotSound, "has no sound in it, or not the sound track that was asked for."),
    "memory": (NotSound, "takes too much memory to be read. Export its sound by itself."),
    "many": (NotSound, f"has more than {MOST_TRACKS} sound tracks. Export the one that is meant."),
    "long": (UnfitSound, "is longer than a day. Cut it into parts."),
}
"""What is said of a file by the word that the decoder has for it."""

Progress = Callable[[float], None]
Along = Callable[[Samples, int], None]
Messages = Iterator[tuple[str, memoryview]]


@dataclass(frozen=True, slots=True)
class SoundTrack:
    """A sound track of a file: its number from 0, what it is in words, and whether players take it unless told otherwise."""

    number: int
    words: str
    is_usual: bool


@dataclass(frozen=True, slots=True)
class Decoded:
    """What became of a file: what it was in words, its sound tracks, and how many places of it could not be decoded.

    ``channels`` are the names of its channels, such as "front left".
    """

    words: str
    tracks: tuple[SoundTrack, ...]
    damaged: int
    channels: tuple[str, ...]


def decode(
    path: Path,
    target: Path,
    name: str | None = None,
    track: int | None = None,
    progress: Progress | None = None,
    along: Along | None = None,
) -> Decoded:
    """Decode a sound track of a file into a WAV file. O(length), in blocks.

    Parameters
    ----------
    path : the file
    target : where the WAV file is written, whole or not at all
    name : what to call the file in messages; its own name if not given
    track : the number of the sound track, from 0; only needed where there are several
    progress : called now and then with the share done, 0 ... 1; may raise to stop the work
    along : given the samples as they come, (n, channels) as ``SoundReader`` gives them, and their rate, Hz

    Raises
    ------
    NotSound, EmptySound, TruncatedSound, UnfitSound
        If the file cannot be used; nothing is written then.
    UndecidedSound
        If it has several sound tracks, and none was asked for; its field ``options`` has them in words.
    """
    label = name or path.name
    with path.open("rb") as source, _decoder(source, "" if track is None else str(track)) as answers:
        said = _Said(label, path.suffix)
        size = max(os.fstat(source.fileno()).st_size, 1)
        # the decoder reads by the very same position
        messages = _messages(answers, lambda: progress and progress(min(os.lseek(source.fileno(), 0, os.SEEK_CUR) / size, 1.0)))
        for letter, body in messages:
            if letter == "I":
                said.look(json.loads(bytes(body)), track)
            elif letter == "P":
                said.covers.append(bytes(body))
            elif letter == "F":
                _write(target, json.loads(bytes(body)), messages, said, along)
                break
            else:
                raise said.why(_text(body) if letter == "E" else "")
        else:
            raise said.why("")
    return Decoded(said.words, said.tracks, said.damaged, said.channels)


@contextmanager
def as_read(
    path: Path, track: int | None = None, told: Callable[[str], None] | None = None, channels: int = MAX_CHANNELS
) -> Iterator[Path]:
    """A file as ``SoundReader`` reads it: itself, or a decoded copy of it that goes with the block.

    Parameters
    ----------
    path : the file
    track : the number of the sound track, from 0; the usual one if not given
    told : is told of it where that was a choice, and of damaged places
    channels : how many it may have

    Raises
    ------
    FileError, SoundError
        If it can be read in neither way.
    """
    if read_info(path, channels=channels) is not None:
        yield path
        return
    with passing_folder() as folder:
        # under its own name: that is what is said of it
        target = folder / path.name
        say = told or (lambda _: None)
        try:
            decoded = decode(path, target, track=track)
        except UndecidedSound as error:
            decoded = decode(path, target, track=error.fields["usual"])
            say(f"{error.sentence} This one is read: {decoded.tracks[error.fields['usual']].words}.")
        if len(decoded.channels) > channels:
            raise too_many(path.name, len(decoded.channels))
        if decoded.damaged:
            say(damage(path.name, decoded.damaged))
        yield target


def read_info(path: Path, name: str | None = None, channels: int = MAX_CHANNELS) -> SoundInfo | None:
    """What a file says of itself, if ``SoundReader`` reads it; None where ``decode`` may.

    Raises
    ------
    FileError, SoundError
        If it would, but cannot; ``name`` is what the file is called in messages, ``channels`` how many it may have.
    """
    try:
        with SoundReader(path, name, channels) as reader:
            return reader.info
    except NotSound:
        return None


def damage(name: str, places: int) -> str:
    """What is said of a file of which some places could not be decoded."""
    where = "in one place" if places == 1 else f"in {places} places"
    return f"“{name}” is damaged {where}; silence stands there."


class _Said:
    """What a decoder has said of a file."""

    def __init__(self, name: str, ending: str) -> None:
        self.name, self._ending = name, ending
        self.words, self.damaged = "", 0
        self.tracks: tuple[SoundTrack, ...] = ()
        self.channels: tuple[str, ...] = ()
        self.covers: list[bytes] = []
        self._tags: dict[str, str] = {}
        self._chapters: list[tuple[float, str]] = []

    def look(self, told: dict[str, Any], track: int | None) -> None:
        """Take in which sound tracks there are."""
        self.words = of_demuxer(told["format"], self._ending)
        self.tracks = tuple(_in_words(number, one) for number, one in enumerate(told["sounds"]))
        own = told["sounds"][track or 0]["tags"] if len(told["sounds"]) > (track or 0) else {}
        self._tags = {**own, **told["tags"]}
        self._chapters = told["chapters"]
        if track is None and len(self.tracks) > 1:
            raise UndecidedSound(
                f"“{self.name}” has {len(self.tracks)} sound tracks.",
                file=self.name,
                of="sound track",
                options=[one.words for one in self.tracks],
                usual=next((one.number for one in self.tracks if one.is_usual), 0),
            )

    def chunks(self, rate: int) -> tuple[Chunk, ...]:
        """Tags and chapters as a WAV file at a rate, Hz, says them."""
        said = {**self._tags, "tracknumber": self._tags.get("track", "")}
        said["date"] = said.get("date") or said.get("creation_time", "")
        markers = [
            Marker(round(at * rate), 0, ((b"labl", title.encode("utf-8", "replace") + b"\0"),))
            for at, title in self._chapters
            if 0 <= round(at * rate) < 1 << 32
        ]
        covers = cover_chunks([cover.partition(b"\0")[::2] for cover in self.covers])
        return (*tag_chunks({name: printable(text) for name, text in said.items()}), *chunks_of(markers), *covers)

    def why(self, word: str) -> SoundError:
        """What to say of a file that was not decoded."""
        if word == "empty":
            return no_samples(self.name)
        if word not in _WHY:
            return not_sound(self.name)
        kind, sentence = _WHY[word]
        return kind(f"“{self.name}” {sentence}", file=self.name)


def _in_words(number: int, told: dict[str, Any]) -> SoundTrack:
    channels = {1: "mono", 2: "stereo"}.get(told["channels"], f"{told['channels']} channels")
    language = told["language"] if told["language"] not in ("", "und") else ""
    parts = [str(number + 1), printable(told["title"]), printable(language), f"{channels}, {told['codec']}"]
    return SoundTrack(number, " · ".join(part for part in parts if part), bool(told["usual"]))


def _text(body: memoryview) -> str:
    return bytes(body).decode("ascii", "replace")


def _write(target: Path, form: dict[str, Any], messages: Messages, said: _Said, along: Along | None) -> None:
    """Write the samples that a decoder sends."""
    rate, channels, coding = int(form["rate"]), int(form["channels"]), str(form["coding"])
    if channels > MOST_CHANNELS:
        raise too_many(said.name, channels)
    said.channels = tuple(printable(str(one)) for one in form["names"][:channels])
    if unfit := unfit_rate(said.name, rate):
        raise unfit
    assert coding in CODINGS
    end: dict[str, Any] | None = None
    with CodedWriter(target, rate, channels, coding, chunks=said.chunks(rate)) as writer:
        for letter, body in messages:
            if letter == "S":
                writer.write_coded(body)
                if along:
                    along(from_coded(body, coding).reshape(-1, channels), rate)
            elif letter == "P":
                # too late to be said
                continue
            elif letter == "D":
                end = json.loads(bytes(body))
                break
            else:
                raise said.why(_text(body))
        if end is None:
            raise said.why("")
        length, stated = int(end["frames"]) / rate, float(end["stated"] or 0.0)
        if stated - length > max(_SHORT_SECONDS, 0.01 * length):
            raise cut_short(said.name, length, stated)
    said.damaged = int(end["damaged"])


@contextmanager
def _decoder(source: IO[bytes], track: str) -> Iterator[IO[bytes]]:
    """A decoder at work on an open file: what it answers. It does not outlive the block."""
    command = [sys.executable, "-P", "-m", "nivelus.core.sound.decoder", ",".join(DEMUXERS), str(MOST_TRACKS), track]
    # threads of the numeric library would take the memory that it may have, and do nothing
    alone = {**os.environ, "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    process = subprocess.Popen(command, stdin=source, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=alone)
    assert process.stdout is not None
    try:
        with suppress(OSError):
            # as much as a system gives without being asked for more
            fcntl.fcntl(process.stdout.fileno(), fcntl.F_SETPIPE_SZ, 1 << 20)
        yield process.stdout
    finally:
        process.kill()
        process.stdout.close()
        process.wait()


def _messages(answers: IO[bytes], tell: Callable[[], Any]) -> Messages:
    """What a decoder answers, message by message; ``tell`` is called while it is waited for. Ends where it ends."""
    while len(head := _bytes(answers, 5, tell)):
        (length,) = struct.unpack("<I", head[1:])
        body = _bytes(answers, length, tell) if length < _MESSAGE else head[:0]
        if len(body) < length:
            return
        yield chr(head[0]), body


def _bytes(answers: IO[bytes], count: int, tell: Callable[[], Any]) -> memoryview:
    """So many bytes of a pipe; none where it ends before, or where nothing comes any more."""
    whole, at, last = memoryview(bytearray(count)), 0, time.monotonic()
    pipe = answers.fileno()
    while at < count:
        step()
        tell()
        if not select.select([pipe], [], [], 0.25)[0]:
            if time.monotonic() - last > _SILENT_SECONDS:
                return whole[:0]
            continue
        taken = os.readv(pipe, [whole[at:]])
        if not taken:
            return whole[:0]
        at += taken
        last = time.monotonic()
    return whole
