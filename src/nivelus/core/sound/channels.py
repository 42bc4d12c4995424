"""Files of many channels, as field recorders write them: each channel becomes a file of its own.

Channels are named by the track list of ``iXML`` (iXML specification 3) where there is one. Samples stay what they are, and what
the file says besides its sound goes into every one of them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from xml.parsers import expat

import numpy as np
import numpy.typing as npt
from blake3 import blake3

from nivelus.core.errors import UnfitSound
from nivelus.core.sound.pcm import to_coded
from nivelus.core.sound.reader import Samples, SoundReader
from nivelus.core.sound.refusals import MOST_CHANNELS, silent
from nivelus.core.sound.riff import MOST_BYTES, Chunk
from nivelus.core.sound.writer import CodedWriter
from nivelus.core.words import listed, printable

_BLOCK = 1 << 20
"""Samples of all channels together that are held."""
_NAME_LENGTH = 80
LOOKS, _FLOOR, _TOGETHER = 120, -80.0, 0.85
_CODINGS = {"PCM_16": "s16", "PCM_S8": "s16", "PCM_U8": "s16", "PCM_24": "s24", "PCM_32": "s32", "DOUBLE": "f64"}
"""How the samples of a channel are written by how they come; as 32-bit float otherwise."""


@dataclass(frozen=True, slots=True)
class Channel:
    """A channel of a file: its number from 1, its name, and the file that it became; None where it is silent.

    ``same`` is the number of an earlier channel with the very same samples, None where there is none.
    """

    number: int
    name: str
    path: Path | None
    same: int | None


def split(
    source: Path,
    target: Callable[[int], Path],
    name: str | None = None,
    names: Sequence[str] = (),
    progress: Callable[[float], None] | None = None,
) -> list[Channel]:
    """Write every channel of a file that is not silent into a WAV file of its own. O(samples), in blocks.

    Parameters
    ----------
    source : the file, of MOST_CHANNELS at most
    target : where the channel of a number, from 1, is written, whole or not at all
    name : what to call the file in messages
    names : of the channels, where they are known; those of ``iXML`` come first, "2 of 8" stands for the others
    progress : called now and then with the share done, 0 ... 1; may raise to stop the work

    Raises
    ------
    SoundError
        If the file cannot be used, or if all of it is silent; nothing is written then.
    DiskFull
    """
    with SoundReader(source, name, MOST_CHANNELS) as reader, ExitStack() as stack:
        info = reader.info
        count = info.channels
        coding = _CODINGS.get(info.subtype, "f32")
        chunks = reader.chunks(MOST_BYTES // count)
        called = channel_names(chunks)
        writers = [
            stack.enter_context(CodedWriter(target(number), info.sample_rate, 1, coding, info.bext, chunks))
            for number in range(1, count + 1)
        ]
        contents, sounds = [blake3() for _ in range(count)], [False] * count
        for at, block in _blocks(reader):
            for place, samples in enumerate(block.T):
                data = to_coded(np.ascontiguousarray(samples), coding)
                contents[place].update(data)
                sounds[place] = sounds[place] or bool(samples.any())
                writers[place].write_coded(data)
            if progress:
                progress(at / info.frames)
        if not any(sounds):
            raise silent(reader.name)
    first: dict[bytes, int] = {}
    channels = []
    for number in range(1, count + 1):
        path, content = target(number), contents[number - 1].digest()
        if not sounds[number - 1]:
            path.unlink()
        known = names[number - 1] if number <= len(names) else f"{number} of {count}"
        is_same = sounds[number - 1] and content in first
        channels.append(
            Channel(
                number,
                called.get(number, known),
                path if sounds[number - 1] else None,
                first[content] if is_same else None,
            )
        )
        first.setdefault(content, number)
    return channels


def take_out(source: Path, number: int, target: Path) -> None:
    """Write one channel of a file into a WAV file, whole or not at all. O(samples), in blocks.

    Parameters
    ----------
    source : the file, of MOST_CHANNELS at most
    number : of the channel, from 1
    target : where it is written

    Raises
    ------
    SoundError
        If the file cannot be used, or has no such channel.
    DiskFull
    """
    with SoundReader(source, channels=MOST_CHANNELS) as reader:
        info = reader.info
        if not 1 <= number <= info.channels:
            has = f"{info.channels} channels" if info.channels > 1 else "one channel"
            raise UnfitSound(f"“{reader.name}” has {has}; there is no channel {number}.", file=reader.name)
        coding, chunks = _CODINGS.get(info.subtype, "f32"), reader.chunks()
        with CodedWriter(target, info.sample_rate, 1, coding, info.bext, chunks) as writer:
            for _, block in _blocks(reader):
                writer.write_coded(to_coded(np.ascontiguousarray(block[:, number - 1]), coding))


def _blocks(reader: SoundReader) -> Iterator[tuple[int, Samples]]:
    """The samples of a file, (n, channels), and where each block ends."""
    frames = max(_BLOCK // reader.info.channels, 1)
    for start in range(0, reader.info.frames, frames):
        block = reader.read(start, frames)
        yield start + len(block), block


def are_of_one_voice(source: Path, name: str | None = None) -> bool:
    """Whether the channels of a file rise and fall as the microphones of one voice do, and not as several voices.

    Levels of 50 ms are compared in LOOKS seconds all over the file: those of each channel that sounds with the loudest one's.
    Their correlation is 0.85 to 1 between microphones of one voice, and less between voices, unless they hear each other well.

    Parameters
    ----------
    source : the file, of MOST_CHANNELS at most
    name : what to call it in messages

    Raises
    ------
    SoundError
        If the file cannot be used.
    """
    with SoundReader(source, name, MOST_CHANNELS) as reader:
        rate, frames = reader.info.sample_rate, reader.info.frames
        step, count = max(rate // 20, 1), min(LOOKS, max(frames // rate, 1))
        starts = np.linspace(0, max(frames - rate, 0), count).astype(np.int64).tolist()
        parts = [_levels(reader.read(start, rate), step) for start in starts]
    levels = np.concatenate(parts)
    sounding = levels[:, levels.max(axis=0, initial=_FLOOR) > _FLOOR]
    if sounding.shape[1] < 2 or len(sounding) < 2:
        return False
    # a channel that never changes goes with none
    moves = sounding - sounding.mean(axis=0)
    strength = np.sqrt((moves**2).sum(axis=0))
    loudest = int(np.argmax((10 ** (sounding / 10)).mean(axis=0)))
    together = moves.T @ moves[:, loudest] / np.maximum(strength * strength[loudest], 1e-9)
    return bool(together.min() >= _TOGETHER)


def _levels(block: Samples, step: int) -> npt.NDArray[np.float64]:
    """The levels of pieces of ``step`` samples, dBFS, (pieces, channels), no lower than _FLOOR."""
    pieces = len(block) // step
    power = (block[: pieces * step].astype(np.float64) ** 2).reshape(pieces, step, block.shape[1]).mean(axis=1)
    return np.asarray(np.maximum(10 * np.log10(power + 1e-12), _FLOOR))


def in_words(channels: Sequence[Channel], name: str, leader: str = "") -> str:
    """What is told of a file that was split, whose other channels follow a ``leader`` if one is named."""
    left_out = [one.name for one in channels if one.path is None]
    what = f"{leader} has the phrases, and the others follow it" if leader else "each is a track of its own"
    told = [f"“{name}” has {len(channels)} channels: {what}."]
    if left_out:
        told.append(f"{listed(left_out)} {'is' if len(left_out) == 1 else 'are'} silent and left out.")
    by_number = {one.number: one for one in channels}
    told += [f"{one.name} is the same as {by_number[one.same].name}." for one in channels if one.same is not None]
    return " ".join(told)


def channel_names(chunks: Sequence[Chunk]) -> dict[int, str]:
    """The names of channels by their number, from 1, as the track list of ``iXML`` has them; none where it cannot be read."""
    body = next((chunk.body for chunk in chunks if chunk.name == b"iXML"), None)
    if body is None:
        return {}
    try:
        tracks = _tracks(body.rstrip(b"\0 \r\n\t"))
    except (expat.ExpatError, ValueError):
        return {}
    names: dict[int, str] = {}
    for track in tracks[:MOST_CHANNELS]:
        # the place in the file; the index of a channel is that of the recorder, and stands for it where nothing else does
        place = track.get("INTERLEAVE_INDEX") or track.get("CHANNEL_INDEX") or ""
        called = printable(" ".join(track.get("NAME", "").split()))[:_NAME_LENGTH]
        if called and place.strip().isdecimal() and len(place.strip()) < 4:
            names.setdefault(int(place), called)
    return names


def _tracks(body: bytes) -> list[dict[str, str]]:
    """What is said of each track in the list of ``iXML``. No entity is expanded: a document that declares one is refused."""
    tracks: list[dict[str, str]] = []
    path: list[str] = []

    def refuse(*_: Any) -> None:
        raise ValueError("iXML declares entities")

    def begin(element: str, _: Any) -> None:
        path.append(element)
        if path[-2:] == ["TRACK_LIST", "TRACK"]:
            tracks.append({})

    def text(part: str) -> None:
        if len(path) > 2 and path[-3:-1] == ["TRACK_LIST", "TRACK"] and tracks:
            said = tracks[-1].get(path[-1], "")
            tracks[-1][path[-1]] = (said + part)[:1000]

    parser = expat.ParserCreate()
    parser.StartElementHandler = begin
    parser.EndElementHandler = lambda _: path.pop()
    parser.CharacterDataHandler = text
    parser.StartDoctypeDeclHandler = parser.EntityDeclHandler = refuse
    parser.Parse(body, True)
    return tracks
