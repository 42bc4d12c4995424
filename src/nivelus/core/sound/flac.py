"""What FLAC, Ogg Vorbis and MP3 files say besides their sound, as chunks that go on to a render; and how a FLAC file says it.

Conventions
-----------
Metadata blocks of FLAC are chunks (``core.sound.riff``) by names that no RIFF file has: COMMENTS, PICTURE, CUESHEET and others.
Chunks of a WAV file lie in a FLAC file in application blocks called ``riff``, laid out as the reference encoder does with
``--keep-foreign-metadata``, which gives them back. A file of another kind takes of all that what it can say.

Sources: RFC 9639 (FLAC) with its registry of applications; RFC 3533 (Ogg) and Xiph.Org's "Vorbis I", 5 (comments); ID3v2.4.0,
"Main Structure", 3.1.
"""

from __future__ import annotations

import base64
import binascii
import struct
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import BinaryIO

from nivelus.core.sound.riff import CUESHEET, LARGEST, MOST_BYTES, NOT_KEPT, TAGS, Chunk, is_list, packed, tag_chunks

_MARK = b"\0fl"
APPLICATION, COMMENTS, PICTURE = (_MARK + bytes([code]) for code in (2, 4, 6))
_PADDING, _LAST = 1, 0x80
_LONGEST_BLOCK = (1 << 24) - 1
_MOST_BLOCKS, _MOST_PAGES = 4096, 4096
_RIFF = b"riff"
_STEP = 1 << 20
_LEVELS = (b"REPLAYGAIN_", b"R128_")
"""What comments say of loudness: that of a render is another one."""


def bext_in_flac(path: Path) -> bytes | None:
    """The broadcast chunk of a WAV file that a FLAC file holds; no other block is read."""
    with path.open("rb") as handle:
        for code, at, length in _blocks(handle, path.stat().st_size):
            handle.seek(at)
            if code == _code(APPLICATION) and 12 <= length <= LARGEST and handle.read(8) == _RIFF + b"bext":
                return handle.read(length - 8)[4:]
    return None


def read_flac(path: Path, most: int = MOST_BYTES) -> tuple[Chunk, ...]:
    """The metadata blocks of a FLAC file that are kept, and the chunks of a WAV file in it but for ``bext``.

    Those that are cut off, larger than LARGEST, or beyond ``most`` bytes together are left out.
    """
    kept: list[Chunk] = []
    size = path.stat().st_size
    with path.open("rb") as handle:
        for code, at, length in _blocks(handle, size):
            name = _MARK + bytes([code])
            if name not in (APPLICATION, COMMENTS, CUESHEET, PICTURE) or length > min(LARGEST, most) or at + length > size:
                continue
            handle.seek(at)
            chunk = _unwrapped(Chunk(name, handle.read(length)))
            if chunk is not None:
                kept.append(chunk)
                most -= length
    return tuple(kept)


def read_vorbis(path: Path, most: int = MOST_BYTES) -> tuple[Chunk, ...]:
    """The comments of an Ogg Vorbis file, and the pictures among them, as FLAC has them."""
    body, packets, stream = bytearray(), 0, b""
    with path.open("rb") as handle:
        for _ in range(_MOST_PAGES):
            head = handle.read(27)
            if len(head) < 27 or head[:4] != b"OggS":
                return ()
            stream = stream or head[14:18]
            for length in handle.read(head[26]):
                part = handle.read(length)
                if head[14:18] != stream or packets > 1:
                    continue
                if packets == 1:
                    body += part
                packets += length < 255
            if packets > 1 or len(body) > min(LARGEST, most):
                break
    if packets < 2 or not body.startswith(b"\x03vorbis") or len(body) > min(LARGEST, most):
        return ()
    # a bit that frames the packet ends it
    comments = _comments_in(bytes(body[7:-1]))
    pictures = [picture for one in comments if (picture := _picture_in(one)) is not None]
    told = [one for one in comments if not one.upper().startswith(b"METADATA_BLOCK_PICTURE=")]
    return (Chunk(COMMENTS, _comments_body(told)), *(Chunk(PICTURE, picture) for picture in pictures))


def read_id3(path: Path, most: int = MOST_BYTES) -> tuple[Chunk, ...]:
    """The ID3 tag that an MP3 file begins with, as it stands there: WAV files hold it in a chunk of their own."""
    with path.open("rb") as handle:
        head = handle.read(10)
        if len(head) < 10 or head[:3] != b"ID3" or max(head[6:10]) > 127:
            return ()
        length = _syncsafe(head[6:10])
        if not 0 < length <= min(LARGEST, most):
            return ()
        body = handle.read(length)
    # one that is all padding says nothing
    return (Chunk(b"id3 ", head + body),) if len(body) == length and any(body) else ()


def cover_chunks(covers: Sequence[tuple[bytes, bytes]]) -> tuple[Chunk, ...]:
    """Pictures of a cover, each its kind (as in ``image/png``) and its bytes, as an ID3 tag; none for none."""
    bodies = [b"\0" + kind + b"\0\3\0" + data for kind, data in covers]
    frames = b"".join(b"APIC" + struct.pack(">IH", len(body), 0) + body for body in bodies)
    if not frames or len(frames) > LARGEST - 10:
        return ()
    length = bytes(len(frames) >> shift & 0x7F for shift in (21, 14, 7, 0))
    return (Chunk(b"id3 ", b"ID3\3\0\0" + length + frames),)


def as_riff(chunks: Sequence[Chunk]) -> tuple[Chunk, ...]:
    """What a WAV file can say of some chunks: comments as a ``LIST INFO``, where there is none that came with the file."""
    plain = tuple(chunk for chunk in chunks if not _is_of_flac(chunk))
    if any(is_list(chunk, b"INFO") for chunk in plain):
        return plain
    told: dict[str, str] = {}
    for chunk in chunks:
        for one in _comments_in(chunk.body) if chunk.name == COMMENTS else ():
            name, _, text = one.partition(b"=")
            known = {"description": "comment"}.get(said := name.decode("ascii", "replace").lower(), said)
            if known in TAGS:
                told.setdefault(known, text.decode("utf-8", "replace").strip())
    return (*plain, *tag_chunks(told))


def say_in_flac(handle: BinaryIO, chunks: Sequence[Chunk], lead: Sequence[bytes], samples: int) -> None:
    """Let a FLAC file that was written say what some chunks do; those that it cannot hold are left out. O(bytes of the file).

    Parameters
    ----------
    handle : the file, open for reading and writing
    chunks : what it is to say
    lead : ``bext`` and ``fmt `` of a WAV file of the same sound, whole with their names and lengths
    samples : bytes of that file's samples
    """
    size = handle.seek(0, 2)
    own = list(_blocks(handle, size))
    if not own:
        return
    first = own[-1][1] + own[-1][2]
    comments = next((chunk.body for chunk in chunks if chunk.name == COMMENTS), None)
    blocks: list[tuple[int, bytes]] = []
    for code, at, length in own:
        handle.seek(at)
        body = handle.read(length)
        if code == _code(COMMENTS) and comments is not None:
            body = _comments_body([one for one in _comments_in(comments) if not one.upper().startswith(_LEVELS)], body)
        if code != _PADDING:
            blocks.append((code, body))
    blocks += [(_code(chunk.name), chunk.body) for chunk in chunks if _is_of_flac(chunk) and chunk.name != COMMENTS]
    if not any(chunk.name == PICTURE for chunk in chunks):
        tags = [chunk.body for chunk in chunks if chunk.name == b"id3 "]
        blocks += [(_code(PICTURE), picture) for tag in tags for picture in _pictures_in_id3(tag)]
    plain = [chunk for chunk in chunks if not _is_of_flac(chunk)]
    blocks += [(_code(APPLICATION), _RIFF + body) for body in _foreign(plain, lead, samples)]
    blocks = [(code, body) for code, body in blocks if len(body) <= _LONGEST_BLOCK]
    head = b"fLaC"
    for place, (code, body) in enumerate(blocks):
        head += bytes([code | (_LAST if place == len(blocks) - 1 else 0)]) + len(body).to_bytes(3, "big") + body
    _shift(handle, first, size, len(head) - first)
    handle.seek(0)
    handle.write(head)


# ---


def _is_of_flac(chunk: Chunk) -> bool:
    """Whether a chunk is a metadata block, which a RIFF file cannot hold."""
    return chunk.name.startswith(_MARK)


def _code(name: bytes) -> int:
    """The code of a metadata block by its name as a chunk."""
    return name[len(_MARK)]


def _blocks(handle: BinaryIO, size: int) -> Iterator[tuple[int, int, int]]:
    """The metadata blocks of a FLAC file: code, where its body begins, and its length in bytes."""
    handle.seek(0)
    head = handle.read(10)
    position = 4
    if head[:3] == b"ID3" and len(head) == 10:
        position += 10 + _syncsafe(head[6:10])
        handle.seek(position - 4)
        head = handle.read(4)
    if head[:4] != b"fLaC":
        return
    for _ in range(_MOST_BLOCKS):
        handle.seek(position)
        lead = handle.read(4)
        if len(lead) < 4:
            return
        length = int.from_bytes(lead[1:], "big")
        yield lead[0] & 0x7F, position + 4, length
        position += 4 + length
        if lead[0] & _LAST or position > size:
            return


def _unwrapped(chunk: Chunk) -> Chunk | None:
    """A metadata block, or the chunk of a WAV file that it holds; None where that says nothing by itself."""
    if chunk.name == COMMENTS:
        return chunk if _comments_in(chunk.body) else None
    if chunk.name != APPLICATION or chunk.body[:4] != _RIFF:
        return chunk
    name, body = chunk.body[4:8], chunk.body[12:]
    if len(chunk.body) < 12 or name in (*NOT_KEPT, b"RIFF", b"RF64"):
        return None
    length = int.from_bytes(chunk.body[8:12], "little")
    return Chunk(name, body[:length]) if length <= len(body) and all(32 <= byte < 127 for byte in name) else None


def _foreign(chunks: Sequence[Chunk], lead: Sequence[bytes], samples: int) -> list[bytes]:
    """Chunks of a WAV file as application blocks hold them, with all that a file of them needs; none for no chunk."""
    if not chunks and len(lead) < 2:
        return []
    told = [body for body in (packed(*chunk) for chunk in chunks) if len(body) + 4 <= _LONGEST_BLOCK]
    size = 4 + sum(map(len, (*lead, *told))) + 8 + samples + (samples & 1)
    if size > 0xFFFFFFFF:
        return [*lead[:-1], *told]
    return [b"RIFF" + struct.pack("<I", size) + b"WAVE", *lead, b"data" + struct.pack("<I", samples), *told]


def _comments_in(body: bytes) -> list[bytes]:
    """The comments of a block, ``NAME=text`` each; what is cut off in it is left out."""
    if len(body) < 8:
        return []
    at = 4 + int.from_bytes(body[:4], "little")
    count, at = int.from_bytes(body[at : at + 4], "little"), at + 4
    found: list[bytes] = []
    while len(found) < count and at + 4 <= len(body):
        length = int.from_bytes(body[at : at + 4], "little")
        one = body[at + 4 : at + 4 + length]
        if len(one) < length:
            break
        if b"=" in one:
            found.append(one)
        at += 4 + length
    return found


def _comments_body(comments: Iterable[bytes], like: bytes = b"\0\0\0\0") -> bytes:
    """A block of comments, with the name of the encoder of another one."""
    told = list(comments)
    vendor = like[: 4 + int.from_bytes(like[:4], "little")]
    return vendor + struct.pack("<I", len(told)) + b"".join(struct.pack("<I", len(one)) + one for one in told)


def _picture_in(comment: bytes) -> bytes | None:
    """The picture that a comment holds, if it does."""
    name, _, text = comment.partition(b"=")
    if name.upper() != b"METADATA_BLOCK_PICTURE":
        return None
    try:
        return base64.b64decode(text, validate=True)
    except binascii.Error:
        return None


def _pictures_in_id3(tag: bytes) -> Iterator[bytes]:
    """The pictures of an ID3 tag as FLAC has them: of one whose frames are as they are, neither packed nor coded."""
    if len(tag) < 10 or tag[3] not in (3, 4) or tag[5] & 0xC0:
        return
    at = 10
    while at + 10 <= len(tag) and tag[at : at + 4].isalnum():
        length = _syncsafe(tag[at + 4 : at + 8]) if tag[3] == 4 else int.from_bytes(tag[at + 4 : at + 8], "big")
        body = tag[at + 10 : at + 10 + length]
        if tag[at : at + 4] == b"APIC" and not tag[at + 9] and len(body) == length:
            kind, _, rest = body[1:].partition(b"\0")
            # what it is called ends in a zero, or in two where letters have two bytes
            end = rest.find(b"\0", 1) if body[:1] in (b"\0", b"\3") else -1
            if end > 0 and kind in (b"image/png", b"image/jpeg"):
                lead = struct.pack(">II", rest[0], len(kind)) + kind
                yield lead + struct.pack(">IIIIII", 0, 0, 0, 0, 0, len(rest) - end - 1) + rest[end + 1 :]
        at += 10 + length


def _syncsafe(raw: bytes) -> int:
    """A number of ID3: seven bits of each byte."""
    return raw[0] << 21 | raw[1] << 14 | raw[2] << 7 | raw[3]


def _shift(handle: BinaryIO, start: int, end: int, by: int) -> None:
    """Move what lies from ``start`` to ``end`` in a file by some bytes, block by block from the side that it moves to."""
    if by == 0:
        return
    places = range(start, end, _STEP)
    for place in reversed(places) if by > 0 else places:
        handle.seek(place)
        block = handle.read(min(_STEP, end - place))
        handle.seek(place + by)
        handle.write(block)
    if by < 0:
        handle.truncate(end + by)
