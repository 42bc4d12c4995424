"""What a WAV file says besides its sound, and how it goes on to what is made of it.

Conventions
-----------
A chunk is its name (4 bytes) and its body. Positions in ``cue `` and ``smpl`` are samples of the recording, lengths in ``ltxt``
too. Sources: RIFF (Microsoft and IBM, "Multimedia Programming Interface and Data Specifications 1.0", 1991), RF64: EBU Tech
3306, ``smpl``: "New Multimedia Data Types and Data Techniques", Microsoft, 1994; iXML: the iXML specification 3.

Chunks that tell of the samples themselves (their form, peaks and envelopes) are not kept: they would be wrong.
"""

from __future__ import annotations

import re
import struct
from bisect import bisect_left
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, NamedTuple

NOT_KEPT = {b"fmt ", b"data", b"ds64", b"fact", b"bext", b"PEAK", b"levl", b"wavl", b"slnt", b"JUNK", b"junk", b"PAD ", b"FLLR"}
"""Chunks that are the file's own: its sound and what describes that, its stamp, which is written anew, and filling."""
LARGEST, MOST_BYTES = 16 << 20, 64 << 20
"""Bytes of one chunk, and of all together, that are kept."""
MOST_MARKERS = 20_000
"""Markers, and loops, that are looked at where clips were moved."""
_MOST_CHUNKS = 4096
_INFO = {
    "title": b"INAM",
    "artist": b"IART",
    "album": b"IPRD",
    "tracknumber": b"IPRT",
    "date": b"ICRD",
    "genre": b"IGNR",
    "comment": b"ICMT",
    "copyright": b"ICOP",
}
"""Tags of files of other formats, as libsndfile calls them, and as a ``LIST INFO`` does."""
TAGS = tuple(_INFO)
_LONGEST_TAG = 10_000
_CUE = struct.Struct("<II4sIII")
_LOOP = struct.Struct("<6I")
_SMPL = struct.Struct("<9I")
CUESHEET = b"\0fl\5"
"""What ``core.sound.flac`` calls the block of a FLAC file that tells of times."""
_STAMP = re.compile(rb"<TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_(HI|LO)>(\d{1,10})</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_\1>")


class Chunk(NamedTuple):
    """A chunk of a RIFF file."""

    name: bytes
    body: bytes


@dataclass(frozen=True, slots=True)
class Marker:
    """A place or span that a file marks: samples, and what is said of it, as (kind of sub-chunk, rest of its body)."""

    at: int
    length: int = 0
    said: tuple[tuple[bytes, bytes], ...] = ()


class Lies(NamedTuple):
    """Where a recording is heard in a track.

    ``runs`` are from where to where, in samples of the track at ``rate`` Hz, and by how much later its own position lies there;
    ``own`` is its own rate.
    """

    runs: tuple[tuple[int, int, int], ...]
    rate: int
    own: int

    def places(self, spans: Sequence[tuple[int, int]]) -> Iterator[tuple[int, int, int]]:
        """Where spans of the recording, a sample and a length each, are played: which one, where it begins, and how much of it.

        MOST_MARKERS at most; O(spans log spans, and the result).
        """
        order = sorted(range(len(spans)), key=lambda place: spans[place][0])[:MOST_MARKERS]
        at, left = [self.scaled(spans[place][0]) for place in order], MOST_MARKERS
        for start, end, shift in self.runs:
            heard = range(bisect_left(at, start - shift), bisect_left(at, end - shift))[:left]
            left -= len(heard)
            for place in heard:
                begins = at[place] + shift
                length = min(self.scaled(spans[order[place]][1]), end - begins)
                # a file has 32 bits for it
                if begins + length < 1 << 32:
                    yield order[place], begins, length

    def moved(self, markers: Sequence[Marker]) -> Iterator[Marker]:
        """Markers of the recording where the track plays them."""
        for place, at, length in self.places([(marker.at, marker.length) for marker in markers]):
            yield Marker(at, length, markers[place].said)

    def scaled(self, samples: int) -> int:
        """So many samples of the recording in samples of the track."""
        return round(samples * self.rate / self.own)


def walk(handle: BinaryIO, size: int, order: str = "<") -> Iterator[tuple[bytes, int, int]]:
    """The chunks of a RIFF, RF64 or AIFF file: name, where its body begins, and its length in bytes.

    ``order`` is ``<`` or ``>``. What is no name of a chunk ends the walk: some writers leave zeros behind the last.
    """
    position, long = 12, None
    for _ in range(_MOST_CHUNKS):
        handle.seek(position)
        lead = handle.read(8)
        if len(lead) < 8 or not all(32 <= byte < 127 for byte in lead[:4]):
            return
        name, length = struct.unpack(order + "4sI", lead)
        if name == b"ds64":
            sizes = handle.read(min(length, 16))
            long = struct.unpack("<QQ", sizes)[1] if len(sizes) == 16 else None
        if name in (b"data", b"SSND") and length == 0xFFFFFFFF:
            # the true length stands in ds64 (RF64), or nowhere: a stream that was never finished runs to the end
            length = long if long is not None else size - position - 8
        yield name, position + 8, length
        position += 8 + length + (length & 1)


def read_chunks(path: Path, most: int = MOST_BYTES) -> tuple[Chunk, ...]:
    """The chunks of a WAV file that are kept; none of any other file.

    Those that are cut off, larger than LARGEST, or beyond ``most`` bytes together are left out.
    """
    size, kept, total = path.stat().st_size, [], 0
    with path.open("rb") as handle:
        head = handle.read(12)
        if head[:4] not in (b"RIFF", b"RF64") or head[8:] != b"WAVE":
            return ()
        for name, at, length in walk(handle, size):
            if name in NOT_KEPT or length > LARGEST or at + length > size or total + length > most:
                continue
            handle.seek(at)
            kept.append(Chunk(name, handle.read(length)))
            total += length
    return tuple(kept)


def packed(name: bytes, body: bytes) -> bytes:
    """A chunk as it stands in a file, filled up to an even length."""
    return name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) & 1)


def is_list(chunk: Chunk, kind: bytes) -> bool:
    """Whether a chunk is a ``LIST`` of a kind, such as ``INFO``."""
    return chunk.name == b"LIST" and chunk.body[:4] == kind


def write_chunks(handle: BinaryIO, chunks: Iterable[Chunk]) -> None:
    """Write chunks behind each other, each filled up to an even length."""
    for name, body in chunks:
        handle.write(packed(name, body))


def tag_chunks(tags: Mapping[str, str]) -> tuple[Chunk, ...]:
    """What TAGS of a file of another format say, as a ``LIST INFO``; none where they say nothing."""
    told = [(_INFO[name], tags[name][:_LONGEST_TAG].encode("utf-8", "replace") + b"\0") for name in TAGS if tags.get(name)]
    body = b"".join(packed(kind, text) for kind, text in told)
    return (Chunk(b"LIST", b"INFO" + body),) if told else ()


def tags_of(chunks: Iterable[Chunk]) -> dict[str, str]:
    """What a ``LIST INFO`` says, as TAGS for a file of another format."""
    named = {kind: name for name, kind in _INFO.items()}
    said: dict[str, str] = {}
    for chunk in chunks:
        if is_list(chunk, b"INFO"):
            for kind, text in _sub_chunks(chunk.body[4:]):
                told = text.split(b"\0")[0][:_LONGEST_TAG].decode("utf-8", "replace").strip()
                if kind in named and told:
                    said.setdefault(named[kind], told)
    return said


def carried(recordings: Sequence[tuple[tuple[Chunk, ...], Lies]]) -> tuple[Chunk, ...]:
    """What the chunks of some recordings become in a track that is made of them.

    Markers go where their samples are heard: to several places where a clip was copied, nowhere where none plays them; a span
    ends where what is heard of it does. What says nothing of times is kept where all recordings that say something of its kind
    say the same; loops only of a single recording.

    Parameters
    ----------
    recordings : of each its chunks, and where it lies in the track
    """
    markers = [moved for chunks, lies in recordings for moved in lies.moved(markers_of(chunks))]
    kept = _agreed(recordings)
    if len(recordings) == 1:
        ((chunks, lies),) = recordings
        kept += [_moved_loops(chunk.body, lies) for chunk in chunks if chunk.name == b"smpl"]
    return (*kept, *chunks_of(sorted(markers, key=lambda marker: marker.at)[:MOST_MARKERS]))


def markers_of(chunks: Iterable[Chunk]) -> list[Marker]:
    """The markers of a file: its cue points with their labels, notes and lengths. What is damaged in them is left out."""
    chunks = list(chunks)
    lists: dict[int, list[tuple[bytes, bytes]]] = {}
    for chunk in chunks:
        if is_list(chunk, b"adtl"):
            for kind, sub in _sub_chunks(chunk.body[4:]):
                if len(sub) >= 4:
                    lists.setdefault(struct.unpack_from("<I", sub)[0], []).append((kind, sub[4:]))
    # once for each number, however many cue points have it
    said = {id: (_length(own), tuple(own)) for id, own in lists.items()}
    found = []
    for name, body in chunks:
        if name == b"cue ":
            # the count is what the file says of itself: there are as many as there are
            for start in range(4, len(body) - _CUE.size + 1, _CUE.size):
                id, _, _, _, _, at = _CUE.unpack_from(body, start)
                found.append(Marker(at, *said.get(id, (0, ()))))
    return found


def chunks_of(markers: Sequence[Marker]) -> tuple[Chunk, ...]:
    """Markers as ``cue `` and ``LIST adtl`` chunks, numbered from 1; none where there are none.

    What is said of them is LARGEST bytes at most: whatever is said of one is said again wherever it is copied to.
    """
    if not markers:
        return ()
    rows, said, left = [struct.pack("<I", len(markers))], [b"adtl"], LARGEST
    for id, marker in enumerate(markers, 1):
        rows.append(_CUE.pack(id, marker.at, b"data", 0, 0, marker.at))
        for kind, rest in marker.said:
            left -= len(rest) + 12
            if left < 0:
                break
            length = struct.pack("<I", marker.length) + rest[4:] if kind == b"ltxt" and len(rest) >= 4 else rest
            body = struct.pack("<I", id) + length
            said.append(packed(kind, body))
    cue = Chunk(b"cue ", b"".join(rows))
    return (cue, Chunk(b"LIST", b"".join(said))) if len(said) > 1 else (cue,)


def _length(said: Iterable[tuple[bytes, bytes]]) -> int:
    """How long a marker is by what is said of it; 0 where it is a place."""
    for kind, rest in said:
        if kind == b"ltxt" and len(rest) >= 4:
            length: int = struct.unpack_from("<I", rest)[0]
            return length
    return 0


def _agreed(recordings: Sequence[tuple[tuple[Chunk, ...], Lies]]) -> list[Chunk]:
    """What says nothing of times, where all recordings that say something of its kind say the same; in order."""
    told: dict[bytes, list[tuple[tuple[Chunk, ...], Lies]]] = {}
    for chunks, lies in recordings:
        own: dict[bytes, list[Chunk]] = {}
        for chunk in chunks:
            if not _is_timed(chunk):
                own.setdefault(chunk.name + (chunk.body[:4] if chunk.name == b"LIST" else b""), []).append(chunk)
        for kind, alike in own.items():
            told.setdefault(kind, []).append((tuple(alike), lies))
    kept: list[Chunk] = []
    for kind, owners in told.items():
        if len({alike for alike, _ in owners}) == 1:
            later = {_later(lies) for _, lies in owners}
            by = later.pop() if len(later) == 1 else None
            same = owners[0][0]
            kept += [Chunk(name, _stamped(body, by)) for name, body in same] if kind == b"iXML" else same
    return kept


def _later(lies: Lies) -> int | None:
    """How many of its own samples later a recording lies in its track; None where it lies in several ways."""
    shifts = {shift for _, _, shift in lies.runs}
    return round(shifts.pop() * lies.own / lies.rate) if len(shifts) == 1 else None


def _is_timed(chunk: Chunk) -> bool:
    # ID3 may have chapters
    has_chapters = chunk.name == b"id3 " and b"CHAP" in chunk.body
    return chunk.name in (b"cue ", b"smpl", b"plst", CUESHEET) or is_list(chunk, b"adtl") or has_chapters


def _stamped(ixml: bytes, later: int | None) -> bytes:
    """An iXML document of a recording that lies ``later`` samples in its track; without a stamp where that is not known."""
    parts = {which: int(value) for which, value in _STAMP.findall(ixml)}
    begins = (parts.get(b"HI", 0) << 32) + parts.get(b"LO", 0) - (later or 0)
    if later == 0 or not parts:
        return ixml
    if later is None or begins < 0:
        return _STAMP.sub(b"", ixml)
    value = {b"HI": begins >> 32, b"LO": begins & 0xFFFFFFFF}

    def told(found: re.Match[bytes]) -> bytes:
        return found[0].replace(b">" + found[2], b">%d" % value[found[1]])

    return _STAMP.sub(told, ixml)


def _moved_loops(body: bytes, lies: Lies) -> Chunk:
    """A ``smpl`` chunk whose loops lie where their samples do; those that are not heard are gone."""
    if len(body) < _SMPL.size:
        return Chunk(b"smpl", body)
    head = list(_SMPL.unpack_from(body))
    ends = min(_SMPL.size + head[7] * _LOOP.size, len(body) - _LOOP.size + 1)
    known = [_LOOP.unpack_from(body, start) for start in range(_SMPL.size, ends, _LOOP.size)]
    # both ends of a loop are played; one that ends before it begins, or is cut, is none
    known = [loop for loop in known if loop[3] >= loop[2]]
    spans = [(loop[2], loop[3] - loop[2] + 1) for loop in known]
    loops = [
        _LOOP.pack(*known[place][:2], at, at + length - 1, *known[place][4:])
        for place, at, length in lies.places(spans)
        if length == lies.scaled(spans[place][1])
    ]
    rest = body[_SMPL.size + head[7] * _LOOP.size :]
    head[7] = len(loops)
    return Chunk(b"smpl", _SMPL.pack(*head) + b"".join(loops) + rest)


def _sub_chunks(data: bytes) -> Iterator[tuple[bytes, bytes]]:
    at = 0
    while at + 8 <= len(data):
        kind, length = struct.unpack_from("<4sI", data, at)
        yield kind, data[at + 8 : at + 8 + length]
        at += 8 + length + (length & 1)
