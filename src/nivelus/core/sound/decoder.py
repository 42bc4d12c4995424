"""The program that decodes what libsndfile does not read: ``python -m nivelus.core.sound.decoder``, begun by ``decoding``.

Files from anywhere are parsed here by a large library, so it runs by itself and can do no harm: it is given the file as its
standard input, opens nothing and writes nothing but its standard output, and its memory and its time are bounded.

It answers in messages: a letter, the length as four bytes, little-endian, and so many bytes. ``I`` tells of the sound tracks of
the file as JSON, ``P`` is a picture of its cover after its kind and a zero, ``F`` says how the samples come, ``S`` are samples,
interleaved, ``D`` says as JSON that this was all, and ``E`` why there is nothing more.
"""

from __future__ import annotations

import errno
import importlib
import io
import json
import pkgutil
import resource
import struct
import sys
from typing import Any

import av
import numpy as np
import numpy.typing as npt
from av.error import FFmpegError

MOST_SECONDS = 24 * 3600
_MOST_STREAMS = 1000
"""Of any kind: fonts and subtitles are streams too."""
_MEMORY = 1 << 30
_CPU_SECONDS = 900
_GAP = 0.02
"""Where time jumps by more than so many seconds there is a hole in the sound: silence stands there."""
_COVERS = {"png": b"image/png", "mjpeg": b"image/jpeg"}
_MOST_COVERS, _LARGEST_COVER = 4, 8 << 20
_TOGETHER = 1 << 16
"""So many samples go out at once."""
_IS_COVER = 0x400
"""``AV_DISPOSITION_ATTACHED_PIC`` of the library."""
_LOCKED = {"drms", "enca"}
"""What the sound of a protected MP4 is coded as (ISO/IEC 14496-12; the first from memory)."""
# how samples are written by the format in which they are decoded: none is changed. (A float of 64 bits is rounded to 32.)
_CODINGS = {"u8": "s16", "s16": "s16", "s32": "s32", "flt": "f32", "dbl": "f32"}
_RAW = {"u8": "u1", "s16": "<i2", "s32": "<i4", "flt": "<f4", "dbl": "<f8"}


class Failed(Exception):  # noqa: N818
    """Why nothing more comes, in one word that ``decoding`` knows."""


def confine() -> None:
    """Open and write nothing from now on, whatever the file has the library do; take bounded memory and time."""
    for module in pkgutil.walk_packages(av.__path__, "av."):
        # what the library loads only when a file has it could not be opened any more
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    for limit, most in (
        (resource.RLIMIT_CORE, 0),
        (resource.RLIMIT_CPU, _CPU_SECONDS),
        (resource.RLIMIT_DATA, _MEMORY),
        (resource.RLIMIT_FSIZE, 0),
        # no file, no socket: a list of parts or a reference to another file leads nowhere
        (resource.RLIMIT_NOFILE, 0),
    ):
        resource.setrlimit(limit, (most, most))


def send(letter: str, body: bytes | memoryview) -> None:
    """Write a message."""
    out = sys.stdout.buffer
    out.write(letter.encode() + struct.pack("<I", len(body)))
    out.write(body)


def main(demuxers: str, most: str, wanted: str) -> None:
    """Decode what is on standard input.

    Parameters
    ----------
    demuxers : the names of those that may be used, with commas between them
    most : how many sound tracks there may be
    wanted : the number of the sound track; empty for the only one
    """
    confine()
    try:
        _decode(demuxers, int(most), wanted)
    except Failed as error:
        send("E", str(error).encode())
    except FFmpegError as error:
        send("E", b"memory" if error.errno == errno.ENOMEM else b"unread")
    except MemoryError:
        send("E", b"memory")
    sys.stdout.buffer.flush()


def _decode(demuxers: str, most: int, wanted: str) -> None:
    source = io.FileIO(0, closefd=False)
    options = {"format_whitelist": demuxers, "max_streams": str(_MOST_STREAMS)}
    with av.open(source, "r", options=options, metadata_errors="replace", buffer_size=1 << 18) as container:
        streams = container.streams.audio
        if not streams:
            raise Failed("none")
        if len(streams) > most:
            raise Failed("many")
        chapters = [
            (float(one["start"] * (one["time_base"] or 0)), str(one["metadata"].get("title", ""))[:200])
            for one in container.chapters()[:1000]
        ]
        said = {"format": container.format.name, "tags": _tags(container.metadata), "chapters": chapters}
        send("I", json.dumps({**said, "sounds": [_told(stream) for stream in streams]}).encode())
        if not wanted and len(streams) > 1:
            return
        number = int(wanted or 0)
        if not 0 <= number < len(streams):
            raise Failed("none")
        stream = streams[number]
        if stream.codec_context.codec_tag in _LOCKED:
            raise Failed("locked")
        # the library's own threads could not be counted as its time is
        stream.codec_context.thread_count = 1
        _send_sound(container, stream)


def _tags(metadata: dict[str, str]) -> dict[str, str]:
    """What is said of a file or a sound track, by lower-case names, no more than a page of it."""
    return {key.lower()[:40]: str(value)[:2000] for key, value in list(metadata.items())[:60]}


def _told(stream: Any) -> dict[str, Any]:
    context = stream.codec_context
    return {
        "codec": context.name,
        "channels": context.channels,
        "language": (stream.language or "")[:20],
        "title": stream.metadata.get("title", "")[:80],
        "tags": _tags(stream.metadata),
        "usual": bool(int(stream.disposition) & 1),
    }


def _send_sound(container: Any, stream: Any) -> None:
    """Send the samples of a stream, each at its time from the start of the file."""
    sound = _Sound(container, stream)
    sound.send()
    if sound.at == 0:
        raise Failed("unread" if sound.damaged else "empty")
    stated = stream.duration and float(stream.duration * stream.time_base)
    send("D", json.dumps({"frames": sound.at, "damaged": sound.damaged, "stated": stated}).encode())


class _Sound:
    """The samples of a stream in order, with silence where the file says that there is a hole."""

    def __init__(self, container: Any, stream: Any) -> None:
        self._container, self._stream = container, stream
        self._out: Any = None
        self.at = self.damaged = 0
        """Samples up to now, and packets that could not be decoded."""

    def send(self) -> None:
        """Send all of it. What is done for each frame is little: there are 170,000 in an hour."""
        out: _Out | None = None
        end = 0
        covers = {one.index: one for one in self._container.streams.video if one.disposition & _IS_COVER}
        covers, own = dict(list(covers.items())[:_MOST_COVERS]), self._stream.index
        for packet in self._container.demux(self._stream, *covers.values()):
            if packet.stream_index != own:
                # the library gives the picture of a cover before any sound
                cover = covers.pop(packet.stream_index, None)
                kind = cover and _COVERS.get(cover.codec_context.name)
                if kind and out is None and 0 < packet.size <= _LARGEST_COVER:
                    send("P", kind + b"\0" + bytes(packet))
                continue
            for frame in self._frames(packet):
                if out is None:
                    out = self._out = _Out(frame, self._stream.codec_context.name)
                    # times are counted in samples
                    ticks = out.rate * float(frame.time_base or 0)
                    first = end = round((frame.pts or 0) * ticks)
                    gap = round(_GAP * out.rate)
                    self._silence(round(self._lead() * out.rate))
                    began = self.at
                time = end if frame.pts is None else round(frame.pts * ticks)
                if time - end > gap:
                    self._silence(time - first - (self.at - began))
                end = time + frame.samples
                self._count(out.put(frame))
        if out is not None:
            out.flush()

    def _frames(self, packet: Any) -> list[Any]:
        try:
            return packet.decode()  # type: ignore[no-any-return]
        except FFmpegError as error:
            if error.errno == errno.ENOMEM:
                raise
            self.damaged += 1
            return []

    def _lead(self) -> float:
        """By how much (seconds) the sound begins later than the file, which may begin with pictures."""
        stream, start = self._stream, self._container.start_time
        if stream.start_time is None or start is None:
            return 0.0
        lead = float(stream.start_time * stream.time_base) - start / av.time_base
        return lead if lead > float(stream.time_base) else 0.0

    def _silence(self, count: int) -> None:
        # counted first: what a file claims is not worth a day of silence
        self._count(max(count, 0))
        while count > 0:
            self._out.silence(min(count, _TOGETHER))
            count -= _TOGETHER

    def _count(self, samples: int) -> None:
        self.at += samples
        if self.at > MOST_SECONDS * self._out.rate:
            raise Failed("long")


class _Out:
    """Samples that go out, interleaved, many of them at once."""

    def __init__(self, frame: Any, codec: str) -> None:
        self.rate, self._layout, self._format = frame.sample_rate, frame.layout, frame.format
        self._resampler: Any = None
        self._channels = frame.layout.nb_channels
        self._kind = frame.format.packed.name
        if self._kind not in _CODINGS:
            raise Failed("unread")
        self._coding = "s24" if codec.startswith("pcm_s24") else _CODINGS[self._kind]
        # gathered by the library: an array for every frame would take longer than decoding it
        self._held, self._count = av.AudioFifo(), 0
        form = {"rate": self.rate, "channels": self._channels, "coding": self._coding}
        names = [channel.description for channel in frame.layout.channels]
        send("F", json.dumps({**form, "names": names}).encode())

    def put(self, frame: Any) -> int:
        """Append the samples of a frame; how many there are."""
        count: int = frame.samples
        # when they are has been seen to
        frame.pts = None
        try:
            self._held.write(frame)
        except ValueError:
            # what changes on the way is brought to what it began with
            self._resampler = self._resampler or av.AudioResampler(self._format, self._layout, self.rate)
            count = 0
            for one in self._resampler.resample(frame):
                one.pts = None
                self._held.write(one)
                count += one.samples
        self._count += count
        if self._count >= _TOGETHER:
            self.flush()
        return count

    def silence(self, count: int) -> None:
        """Append so many samples of silence."""
        self.flush()
        self._send(np.full((count, self._channels), 128 if self._kind == "u8" else 0, _RAW[self._kind]))

    def flush(self) -> None:
        """Send what is held."""
        if self._count:
            frame: Any = self._held.read(self._count)
            samples = frame.to_ndarray()
            self._send(_interleaved(samples) if frame.format.is_planar else samples.reshape(-1, self._channels))
        self._count = 0

    def _send(self, samples: npt.NDArray[Any]) -> None:
        coded = np.ascontiguousarray(samples, _RAW[self._kind])
        if self._kind == "u8":
            coded = ((coded.astype(np.int16) - 128) << 8).astype("<i2")
        elif self._coding == "s24":
            coded = np.ascontiguousarray(coded.view(np.uint8).reshape(-1, 4)[:, 1:])
        elif self._kind == "dbl":
            coded = coded.astype("<f4")
        send("S", coded.data.cast("B"))


def _interleaved(channels: npt.NDArray[Any]) -> npt.NDArray[Any]:
    """Samples (n, channels) of which each channel lies by itself; a copy channel by channel, which is seven times as fast."""
    out = np.empty(channels.shape[::-1], channels.dtype)
    for number, one in enumerate(channels):
        out[:, number] = one
    return out


if __name__ == "__main__":
    main(*sys.argv[1:])
