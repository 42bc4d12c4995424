"""What files of other formats say - titles, artists, chapters - comes out with a render, read by ffprobe."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import numpy as np
import pytest

from nivelus.core.deliver.render import render
from nivelus.core.gain.compiled import GainCurve
from nivelus.core.sound.decoding import as_read
from nivelus.core.sound.riff import Chunk, markers_of, read_chunks, tag_chunks, tags_of
from tests.conftest import RATE, uneven_voice, write_sound
from tests.helpers.files import say
from tests.helpers.media import ffmpeg

NO_GAIN = GainCurve(np.zeros(1), np.zeros(1))
SAID = {
    "title": "Ünder the <b>lamp</b>",
    "artist": "Pellowmere",
    "album": "Guide",
    "track": "4",
    "date": "2026",
    "genre": "Speech",
    "copyright": "made up",
}


def told(path: Path) -> dict[str, str]:
    """The tags of a file as ffprobe reads them, by lower-case names."""
    command = ["ffprobe", "-v", "error", "-show_entries", "format_tags:stream_tags", "-of", "json", str(path)]
    done = json.loads(subprocess.run(command, capture_output=True, check=True).stdout)
    tags = dict(done["format"].get("tags", {}))
    for stream in done["streams"]:
        tags |= stream.get("tags", {})
    return {name.lower(): value for name, value in tags.items() if name.lower() not in ("encoder", "software", "duration")}


@pytest.fixture
def voice(tmp_path: Path) -> Path:
    return write_sound(tmp_path / "voice.wav", uneven_voice((-20.0,)))


@pytest.mark.parametrize("target", ["out.wav", "out.flac"])
@pytest.mark.parametrize("name", ["a.wav", "a.flac", "a.ogg", "a.mp3", "a.m4a", "a.mka", "a.mov", "a.opus"])
def test_tags_of_every_kind_of_file_are_in_the_render(name: str, target: str, voice: Path, tmp_path: Path) -> None:
    source, out = tmp_path / name, tmp_path / target
    more = ("-movflags", "use_metadata_tags") if name == "a.mov" else ()
    said = [word for key, value in SAID.items() for word in ("-metadata", f"{key}={value}")]
    ffmpeg("-i", voice, *said, *more, source)
    known = told(source)
    assert SAID.items() <= known.items()
    with as_read(source) as sound:
        render(sound, out, NO_GAIN, format=out.suffix[1:], bits=24)
    assert SAID.items() <= told(out).items()


@pytest.mark.parametrize("name", ["a.wav", "a.flac", "a.mp3", "a.m4a"])
def test_a_file_that_says_nothing_gets_nothing(name: str, voice: Path, tmp_path: Path) -> None:
    source, out = tmp_path / name, tmp_path / "out.wav"
    ffmpeg("-i", voice, "-bitexact", "-map_metadata", "-1", source)
    with as_read(source) as sound:
        render(sound, out, NO_GAIN, format="wav", bits=24)
    assert told(out) == {}
    assert read_chunks(out) == ()


def test_chapters_are_markers(voice: Path, tmp_path: Path) -> None:
    chapters = ";FFMETADATA1\n" + "".join(
        f"[CHAPTER]\nTIMEBASE=1/1000\nSTART={at}\nEND={at + 400}\ntitle={name}\n" for at, name in ((0, "Löw"), (800, "High"))
    )
    (tmp_path / "chapters.txt").write_text(chapters)
    book = tmp_path / "book.m4b"
    ffmpeg("-i", voice, "-i", tmp_path / "chapters.txt", "-map", "0:a", "-map_chapters", "1", "-c:a", "aac", book)
    with as_read(book) as sound:
        markers = markers_of(read_chunks(sound))
    assert [(marker.at / RATE, marker.said) for marker in markers] == [
        (0.0, ((b"labl", "Löw\0".encode()),)),
        (0.8, ((b"labl", b"High\0"),)),
    ]


def test_tags_are_told_both_ways_and_bounded() -> None:
    said = {"title": "T" * 20_000, "artist": "Ä", "album": "", "unknown": "x", "comment": "two\nlines"}
    chunks = tag_chunks(said)
    assert tags_of(chunks) == {"title": "T" * 10_000, "artist": "Ä", "comment": "two\nlines"}
    assert tag_chunks({"album": ""}) == ()
    assert tags_of([Chunk(b"LIST", b"INFOINAM\xff\xff\xff\x7fcut"), Chunk(b"LIST", b"INFO"), Chunk(b"LIST", b"adtl")]) == {
        "title": "cut"
    }
    assert tags_of([Chunk(b"LIST", b"INFOINAM\x02\0\0\0\xff\0IARTx")]) == {"title": "\ufffd"}


def test_a_wav_keeps_its_own_list_as_it_is(voice: Path, tmp_path: Path) -> None:
    own = Chunk(b"LIST", b"INFOINAM\x04\0\0\0abc\0IXYZ\x04\0\0\0own\0")
    out = tmp_path / "out.wav"
    render(say(voice, [own]), out, NO_GAIN, format="wav", bits=24)
    assert read_chunks(out) == (own,)
