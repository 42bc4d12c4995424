"""Files of many channels, taken apart: every channel is what it was, called what the recorder calls it."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile

from nivelus.core.errors import SilentSound, TruncatedSound, UnfitSound
from nivelus.core.sound.channels import channel_names, in_words, split
from nivelus.core.sound.reader import SoundReader
from nivelus.core.sound.riff import Chunk, read_chunks
from tests.conftest import RATE, hum, write_sound
from tests.helpers.files import say
from tests.helpers.media import ffmpeg

IXML = b"""<?xml version="1.0" encoding="UTF-8"?>
<BWFXML><IXML_VERSION>1.61</IXML_VERSION><PROJECT>Made up</PROJECT><TRACK_LIST><TRACK_COUNT>3</TRACK_COUNT>
<TRACK><CHANNEL_INDEX>1</CHANNEL_INDEX><INTERLEAVE_INDEX>1</INTERLEAVE_INDEX><NAME>Boom &amp; pole</NAME></TRACK>
<TRACK><CHANNEL_INDEX>7</CHANNEL_INDEX><INTERLEAVE_INDEX>2</INTERLEAVE_INDEX><NAME>Keeper
 lapel</NAME></TRACK>
<TRACK><CHANNEL_INDEX>3</CHANNEL_INDEX><NAME>\xe2\x80\x8bRock\xc3\xa9 </NAME></TRACK>
<TRACK><CHANNEL_INDEX>x</CHANNEL_INDEX><NAME>nowhere</NAME></TRACK></TRACK_LIST></BWFXML>"""
NAMES = {1: "Boom & pole", 2: "Keeper lapel", 3: "Rocké"}


@pytest.fixture
def target(tmp_path: Path) -> Callable[[int], Path]:
    folder = tmp_path / "out"
    folder.mkdir()
    return lambda number: folder / f"{number}.wav"


def many(count: int, seconds: float = 1.0) -> np.ndarray:
    """Channels that are all different."""
    return np.column_stack([hum(-30.0 - number, seconds, seed=number) for number in range(count)])


def test_names_are_those_of_the_recorder() -> None:
    assert channel_names([Chunk(b"cue ", b""), Chunk(b"iXML", IXML + b"\0\0")]) == NAMES


@pytest.mark.parametrize(
    "body",
    [
        b'<!DOCTYPE x [<!ENTITY a "AAAA"><!ENTITY b "&a;&a;">]>' + IXML.split(b"?>")[1].replace(b"Boom &amp; pole", b"&b;"),
        b'<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]>' + IXML.split(b"?>")[1].replace(b"Boom &amp; pole", b"&a;"),
        b'<!DOCTYPE BWFXML SYSTEM "http://127.0.0.1/x.dtd">' + IXML.split(b"?>")[1],
        IXML[:-20],
        b"\xff\xfe\x00",
        b"",
        b"<a>" * 100_000,
        b"<TRACK_LIST><TRACK><NAME>one</NAME></TRACK></TRACK_LIST>",
        b"<TRACK_LIST><TRACK><NAME> </NAME><CHANNEL_INDEX>1</CHANNEL_INDEX></TRACK></TRACK_LIST>",
        b"<TRACK_LIST><TRACK><NAME>x</NAME><CHANNEL_INDEX>" + b"9" * 5000 + b"</CHANNEL_INDEX></TRACK></TRACK_LIST>",
    ],
    ids=["entities", "outside", "doctype", "cut", "no text", "empty", "deep", "no place", "no name", "far place"],
)
def test_what_is_no_list_of_names_has_none_and_no_entity_is_expanded(body: bytes) -> None:
    assert channel_names([Chunk(b"iXML", body)]) == {}


def test_a_long_name_is_cut_and_a_list_of_thousands_is_not_read_on() -> None:
    track = b"<TRACK><CHANNEL_INDEX>%d</CHANNEL_INDEX><NAME>" + b"n" * 5000 + b"</NAME></TRACK>"
    names = channel_names([Chunk(b"iXML", b"<TRACK_LIST>%s</TRACK_LIST>" % b"".join(track % at for at in range(1, 1000)))])
    assert len(names) == 64
    assert set(names.values()) == {"n" * 80}


@pytest.mark.parametrize("subtype", ["PCM_U8", "PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE"])
def test_every_channel_is_what_it_was(subtype: str, tmp_path: Path, target: Callable[[int], Path]) -> None:
    source = write_sound(tmp_path / "poly.wav", many(5), subtype=subtype)
    channels = split(source, target, "poly.wav")
    assert [one.name for one in channels] == ["1 of 5", "2 of 5", "3 of 5", "4 of 5", "5 of 5"]
    whole = soundfile.read(source)[0]
    for one in channels:
        assert one.path == target(one.number)
        assert np.array_equal(soundfile.read(one.path)[0], whole[:, one.number - 1])
        assert soundfile.info(one.path).subtype == ("PCM_16" if subtype == "PCM_U8" else subtype)
    # ... as ffmpeg takes it apart too
    apart = tmp_path / "fourth.wav"
    ffmpeg("-i", source, "-af", "pan=mono|c0=c3", "-c:a", "pcm_f64le", apart)
    assert np.array_equal(soundfile.read(apart)[0], whole[:, 3])


@pytest.mark.parametrize(("suffix", "format"), [(".flac", "FLAC"), (".aiff", "AIFF"), (".wav", "RF64")])
def test_other_formats_are_taken_apart_as_well(suffix: str, format: str, tmp_path: Path, target: Callable[[int], Path]) -> None:
    source = write_sound(tmp_path / f"poly{suffix}", many(3), format=format)
    for one in split(source, target):
        assert np.array_equal(soundfile.read(target(one.number))[0], soundfile.read(source)[0][:, one.number - 1])


def test_sixty_four_channels_come_apart_and_more_do_not(tmp_path: Path, target: Callable[[int], Path]) -> None:
    source = write_sound(tmp_path / "poly.wav", many(64, 0.2))
    channels = split(source, target)
    assert len(channels) == 64
    assert np.array_equal(soundfile.read(target(64))[0], soundfile.read(source)[0][:, 63])
    with pytest.raises(UnfitSound, match="has 65 channels; 64 are the most"):
        split(write_sound(tmp_path / "more.wav", many(65, 0.2)), target)


def test_silent_channels_are_left_out_and_those_that_are_the_same_told(tmp_path: Path, target: Callable[[int], Path]) -> None:
    samples = many(4)
    samples[:, 1] = 0.0
    samples[:, 3] = samples[:, 0]
    source = say(write_sound(tmp_path / "poly.wav", samples), [Chunk(b"iXML", IXML)])
    channels = split(source, target)
    assert [(one.name, one.path is not None, one.same) for one in channels] == [
        ("Boom & pole", True, None),
        ("Keeper lapel", False, None),
        ("Rocké", True, None),
        ("4 of 4", True, 1),
    ]
    assert not target(2).exists()
    assert in_words(channels, "poly.wav") == (
        "“poly.wav” has 4 channels: each is a track of its own. Keeper lapel is silent and left out. "
        "4 of 4 is the same as Boom & pole."
    )
    with pytest.raises(SilentSound):
        split(write_sound(tmp_path / "none.wav", np.zeros((RATE, 3))), target)


def test_what_the_file_says_goes_into_every_channel(tmp_path: Path, target: Callable[[int], Path]) -> None:
    source = say(write_sound(tmp_path / "poly.wav", many(3)), [Chunk(b"iXML", IXML), Chunk(b"odd ", b"1234")])
    stamped = tmp_path / "stamped.wav"
    ffmpeg("-i", source, "-c", "copy", "-write_bext", "1", "-metadata", "time_reference=172800000", stamped)
    say(stamped, [Chunk(b"iXML", IXML), Chunk(b"odd ", b"1234")])
    split(stamped, target)
    for number in (1, 2, 3):
        with SoundReader(target(number)) as reader:
            assert reader.info.bext is not None
            assert reader.info.bext.time_reference == 172_800_000
        assert {Chunk(b"iXML", IXML), Chunk(b"odd ", b"1234")} <= set(read_chunks(target(number)))
    told = subprocess.run(["ffprobe", "-v", "error", "-show_format", target(2)], capture_output=True, text=True, check=True)
    assert "TAG:time_reference=172800000" in told.stdout


def test_what_breaks_off_leaves_nothing(tmp_path: Path, target: Callable[[int], Path]) -> None:
    source = write_sound(tmp_path / "poly.flac", many(3, 4.0))
    half = tmp_path / "half.flac"
    half.write_bytes(source.read_bytes()[: source.stat().st_size // 2])
    with pytest.raises(TruncatedSound):
        split(half, target)

    def stop(share: float) -> None:
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        split(source, target, progress=stop)
    assert list(target(1).parent.iterdir()) == []
