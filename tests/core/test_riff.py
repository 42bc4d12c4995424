"""What a WAV file says besides its sound goes on to what is rendered of it."""

from __future__ import annotations

import json
import struct
import subprocess
from collections.abc import Iterable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from nivelus.core.deliver.render import render
from nivelus.core.gain.compiled import GainCurve
from nivelus.core.sound import timeline
from nivelus.core.sound.bwf import Bext, write_bext
from nivelus.core.sound.reader import SoundReader
from nivelus.core.sound.riff import Chunk, Lies, Marker, carried, chunks_of, markers_of, read_chunks
from nivelus.core.sound.timeline import Composed, Piece, open_track
from tests.helpers.files import say

RATE = 48_000
QUIETER = GainCurve(np.array([0.0]), np.array([-6.0]))
IXML = (
    b'<?xml version="1.0"?><BWFXML><PROJECT>Pellowmere</PROJECT><SPEED><TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI>1'
    b"</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI><TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO>5000</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO>"
    b"</SPEED></BWFXML>"
)
TITLE = b"The mill\0\0"
INFO = b"INFO" + b"INAM" + struct.pack("<I", 9) + TITLE
MARKERS = [
    Marker(4_800, 0, ((b"labl", b"door\0"), (b"note", b"a knock\0"))),
    Marker(24_000, 9_600, ((b"labl", b"take 2\0"), (b"ltxt", struct.pack("<I4s4H", 9_600, b"rgn ", 0, 0, 0, 0)))),
]
SMPL = struct.pack("<9I", 0, 0, 20_833, 60, 0, 0, 0, 1, 4) + struct.pack("<6I", 7, 0, 10_000, 19_999, 0, 0) + b"more"
SAID = (
    Chunk(b"iXML", IXML),
    *chunks_of(MARKERS),
    Chunk(b"LIST", INFO),
    Chunk(b"smpl", SMPL),
    Chunk(b"axml", b"<ebuCoreMain/>"),
    Chunk(b"zzzz", b"odd"),
)


def walked(path: Path) -> list[tuple[bytes, bytes]]:
    """Every chunk of a RIFF file, by a plain walk of its own."""
    data, at, out = path.read_bytes(), 12, []
    assert struct.unpack("<I", data[4:8])[0] == len(data) - 8
    while at < len(data):
        name, length = struct.unpack_from("<4sI", data, at)
        out.append((name, data[at + 8 : at + 8 + length]))
        at += 8 + length + length % 2
    assert at == len(data)
    return out


def with_chunks(path: Path, chunks: Iterable[tuple[bytes, bytes]], seconds: float = 1.0, rate: int = RATE) -> Path:
    """A 24-bit WAV file that holds a tone, and says something besides."""
    soundfile.write(path, 0.1 * np.sin(np.arange(round(seconds * rate)) * 0.05), rate, "PCM_24")
    return say(path, chunks)


def kept_chunks(source: Composed) -> tuple[Chunk, ...]:
    with open_track(source) as reader:
        return reader.chunks()


def rendered(source: Path | Composed, folder: Path) -> Path:
    target = folder / "out.wav"
    render(source, target, QUIETER)
    return target


def test_all_that_a_file_says_is_in_its_render(tmp_path: Path) -> None:
    stamp = Bext("Caf\xe9", time_reference=36_000 * RATE, coding_history="A=ANALOGUE,M=mono,T=tape\r\n")
    source = with_chunks(tmp_path / "in.wav", [(b"bext", write_bext(stamp)), *SAID])
    target = rendered(source, tmp_path)
    there = walked(target)
    for chunk in SAID:
        assert there.count((chunk.name, chunk.body)) == 1
    # EBU R 98: the history of a file grows by a line for each process
    with SoundReader(target) as reader:
        assert reader.info.bext is not None
        assert (reader.info.bext.description, reader.info.bext.time_reference) == ("Caf\xe9", 36_000 * RATE)
        lines = reader.info.bext.coding_history.splitlines()
    assert lines == ["A=ANALOGUE,M=mono,T=tape", "A=PCM,F=48000,W=24,M=mono,T=Nivelus"]
    assert soundfile.info(target).frames == RATE
    told = subprocess.run(["ffprobe", "-v", "error", "-show_format", "-of", "json", target], capture_output=True, check=True)
    assert json.loads(told.stdout)["format"]["tags"]["title"] == "The mill"
    # once more: nothing is doubled
    again = tmp_path / "again.wav"
    render(target, again, QUIETER)
    assert [name for name, _ in walked(again)] == [name for name, _ in there]


def test_a_file_that_says_nothing_renders_to_one_that_says_nothing(tmp_path: Path) -> None:
    target = rendered(with_chunks(tmp_path / "in.wav", []), tmp_path)
    assert {name for name, _ in walked(target)} <= {b"fmt ", b"data", b"JUNK"}


@pytest.mark.parametrize("name", [b"PEAK", b"levl", b"fact", b"FLLR"])
def test_what_tells_of_the_samples_themselves_is_not_kept(name: bytes, tmp_path: Path) -> None:
    assert name not in dict(
        walked(rendered(with_chunks(tmp_path / "in.wav", [(name, struct.pack("<2IfI", 1, 0, 0.5, 0))]), tmp_path))
    )


def test_markers_go_with_the_clips_that_play_them(tmp_path: Path) -> None:
    source = with_chunks(tmp_path / "in.wav", SAID)
    # the end of the recording comes first, its beginning half a second later and again behind that
    pieces = (
        Piece(source, 0, 24_000, -24_000),
        Piece(source, 24_000, 36_000, 24_000),
        Piece(source, 36_000, 48_000, 36_000),
    )
    target = rendered(Composed(pieces, RATE, 1, 48_000), tmp_path)
    found = markers_of(read_chunks(target))
    places = [(marker.at, marker.length, dict(marker.said)[b"labl"]) for marker in found]
    assert places == [(0, 9_600, b"take 2\0"), (28_800, 0, b"door\0"), (40_800, 0, b"door\0")]
    assert struct.unpack("<I", dict(found[0].said)[b"ltxt"][:4])[0] == 9_600
    # what says nothing of times is as it was, a loop that is cut is none, and nobody knows when it begins
    said = dict(walked(target))
    assert said[b"axml"] == b"<ebuCoreMain/>"
    assert struct.unpack_from("<I", said[b"smpl"], 28)[0] == 0
    assert said[b"smpl"].endswith(b"more")
    assert b"Pellowmere" in said[b"iXML"]
    assert b"TIMESTAMP" not in said[b"iXML"]


def test_a_recording_that_lies_later_takes_its_times_along(tmp_path: Path) -> None:
    source = with_chunks(tmp_path / "in.wav", SAID)
    target = rendered(Composed((Piece(source, 1_000, 49_000, 1_000),), RATE, 1, 49_000), tmp_path)
    said = dict(walked(target))
    assert [marker.at for marker in markers_of(read_chunks(target))] == [5_800, 25_000]
    assert struct.unpack_from("<2I", said[b"smpl"], 44) == (11_000, 20_999)
    # (1 << 32) + 5000, a thousand samples earlier
    assert b"_HI>1<" in said[b"iXML"]
    assert b"_LO>4000<" in said[b"iXML"]


def test_a_cut_span_ends_where_what_is_heard_of_it_does(tmp_path: Path) -> None:
    source = with_chunks(tmp_path / "in.wav", SAID)
    # two clips that follow each other play it on
    pieces = (Piece(source, 20_000, 26_000, 0), Piece(source, 26_000, 30_000, 0))
    (span,) = markers_of(read_chunks(rendered(Composed(pieces, RATE, 1, 48_000), tmp_path)))
    assert (span.at, span.length) == (24_000, 6_000)


def test_several_recordings_keep_what_they_agree_on_and_all_their_markers(tmp_path: Path) -> None:
    first = with_chunks(tmp_path / "a.wav", SAID)
    own = [(b"axml", b"<ebuCoreMain/>"), (b"zzzz", b"other")]
    other = with_chunks(tmp_path / "b.wav", [*chunks_of(MARKERS[:1]), *own], rate=24_000)
    pieces = (Piece(first, 0, 48_000, 0), Piece(other, 48_000, 96_000, 48_000))
    target = rendered(Composed(pieces, RATE, 1, 96_000), tmp_path)
    # what only one of them says nobody denies; its stamp is that of the track, which begins with it
    said = dict(walked(target))
    assert said.keys() == {b"fmt ", b"data", b"JUNK", b"cue ", b"LIST", b"axml", b"iXML"}
    assert said[b"iXML"] == IXML
    assert INFO in [body for name, body in walked(target) if name == b"LIST"]
    # a marker of a recording at half the rate lies twice as many samples in
    assert [marker.at for marker in markers_of(read_chunks(target))] == [4_800, 24_000, 57_600]


@pytest.mark.parametrize(
    "chunks",
    [
        [(b"cue ", struct.pack("<I", 0xFFFFFFFF))],
        [(b"cue ", struct.pack("<I", 2) + b"\xff" * 30)],
        [(b"LIST", b"adtl" + struct.pack("<4sI", b"labl", 0xFFFFFFF0) + b"x")],
        [(b"LIST", b"adtl" + struct.pack("<4sI", b"labl", 2) + b"xy"), *chunks_of([Marker(5)])],
        [(b"smpl", struct.pack("<9I", *[0xFFFFFFFF] * 9) + b"abc")],
        [(b"smpl", b"")],
        [(b"iXML", b"<TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO>99999999999999</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO>")],
        [(b"iXML", b"<!DOCTYPE x [<!ENTITY a 'b'>]>&a;")],
        [(b"zz%d " % place, b"x") for place in range(10)] * 500,
    ],
)
def test_what_is_damaged_or_a_lie_stops_nothing(chunks: list[tuple[bytes, bytes]], tmp_path: Path) -> None:
    source = with_chunks(tmp_path / "in.wav", chunks)
    for way in (source, Composed((Piece(source, 10, 48_000, 10),), RATE, 1, 48_000)):
        assert soundfile.info(rendered(way, tmp_path)).frames == 48_000


def test_so_many_bytes_are_kept_and_no_more(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    large = [(b"one ", b"a" * 600), (b"two ", b"b" * 600)]
    source, other = (with_chunks(tmp_path / f"{name}.wav", large) for name in "ab")
    assert [chunk.name for chunk in read_chunks(source, 1_000)] == [b"one "]
    pieces = (Piece(source, 0, 24_000, 0), Piece(other, 24_000, 48_000, 0))
    both = Composed(pieces, RATE, 1, 48_000)
    assert [chunk.name for chunk in kept_chunks(both)] == [b"one ", b"two "]
    # of all recordings of a track together
    monkeypatch.setattr(timeline, "MOST_BYTES", 1_000)
    assert [chunk.name for chunk in kept_chunks(both)] == [b"one "]


def test_a_long_label_of_many_markers_is_said_so_often_as_there_is_room() -> None:
    label = (b"labl", b"x" * (1 << 20))
    many = struct.pack("<I", 1000) + b"".join(struct.pack("<II4sIII", 1, 0, b"data", 0, 0, at) for at in range(1000))
    chunks = Chunk(b"cue ", many), chunks_of([Marker(0, 0, (label,))])[1]
    cue, said = carried([(chunks, Lies(((0, 10_000, 0),), RATE, RATE))])
    assert len(markers_of([cue, said])) == 1000
    assert len(said.body) <= 16 << 20


def test_a_marker_beyond_what_a_file_can_say_is_left_out() -> None:
    chunks = chunks_of([Marker(10, 5), Marker(4_000_000_000, 400_000_000, ((b"ltxt", b"\xff" * 16),))])
    (cue,) = carried([(chunks, Lies(((0, 1 << 40, 0),), 192_000, 96_000))])
    assert [marker.at for marker in markers_of([cue])] == [20]


def test_markers_without_number_are_a_bounded_work() -> None:
    chunks = chunks_of([Marker(place) for place in range(100_000)])
    runs = tuple((start, start + 10, start - 5) for start in range(0, 1_000_000, 10))
    assert len(markers_of(carried([(chunks, Lies(runs, RATE, RATE))]))) == 20_000


@given(st.lists(st.tuples(st.sampled_from([b"cue ", b"LIST", b"smpl", b"iXML"]), st.binary(max_size=80)), max_size=4))
def test_any_bytes_at_all_are_carried_without_an_error(chunks: list[tuple[bytes, bytes]]) -> None:
    held = tuple(Chunk(name, (b"adtl" if name == b"LIST" else b"") + body) for name, body in chunks)
    carried([(held, Lies(((0, 1_000, 0), (2_000, 9_000, -5)), 48_000, 44_100))])


@given(st.lists(st.builds(Marker, st.integers(0, 1 << 31), st.just(0), st.just(((b"labl", b"x\0"),))), max_size=9))
def test_markers_are_read_as_they_were_written(markers: list[Marker]) -> None:
    assert markers_of(chunks_of(markers)) == markers
