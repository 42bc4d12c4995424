"""What FLAC, Ogg and MP3 files say is in the render, and what a WAV file says goes to FLAC and back; read by other programs."""

from __future__ import annotations

import base64
import json
import re
import struct
import subprocess
import tempfile
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from nivelus.core.deliver.render import render
from nivelus.core.gain.compiled import GainCurve
from nivelus.core.sound.bwf import Bext
from nivelus.core.sound.decoding import as_read
from nivelus.core.sound.flac import PICTURE, read_flac, read_id3, read_vorbis
from nivelus.core.sound.reader import SoundReader
from nivelus.core.sound.riff import CUESHEET, Chunk, chunks_of, read_chunks
from nivelus.core.sound.timeline import Composed, Piece
from nivelus.core.sound.writer import SoundWriter
from tests.conftest import RATE, uneven_voice, write_sound
from tests.helpers.files import say
from tests.helpers.media import ffmpeg

NO_GAIN = GainCurve(np.zeros(1), np.zeros(1))
LOWER = GainCurve(np.zeros(1), np.full(1, -3.0))
PIXEL = base64.b64decode("iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==")


def done(*words: object) -> str:
    return subprocess.run([str(word) for word in words], capture_output=True, check=True, text=True).stdout


def probed(path: Path) -> tuple[dict[str, str], list[str]]:
    """Tags by lower-case names, and the codecs of what is in a file, by ffprobe."""
    told = json.loads(done("ffprobe", "-v", "error", "-show_format", "-show_streams", "-of", "json", path))
    tags = dict(told["format"].get("tags", {}))
    for stream in told["streams"]:
        tags |= stream.get("tags", {}) if stream["codec_type"] == "audio" else {}
    return {name.lower(): value for name, value in tags.items()}, [stream["codec_name"] for stream in told["streams"]]


@pytest.fixture
def voice(tmp_path: Path) -> Path:
    return write_sound(tmp_path / "voice.wav", uneven_voice((-20.0,)))


@pytest.fixture
def song(voice: Path, tmp_path: Path) -> Path:
    """A FLAC file with a picture, comments of all kinds, and a cue sheet."""
    (tmp_path / "cover.png").write_bytes(PIXEL)
    (tmp_path / "song.cue").write_text(
        'FILE "song.flac" WAVE\n  TRACK 01 AUDIO\n    INDEX 01 00:00:00\n  TRACK 02 AUDIO\n    INDEX 01 00:01:00\n'
    )
    made = tmp_path / "song.flac"
    done("flac", "-s", "-f", "-o", made, f"--picture={tmp_path / 'cover.png'}", "--tag=TITLE=Lämp", "--tag=MOOD=calm",
         "--tag=PERFORMER=One", "--tag=PERFORMER=Two", "--tag=REPLAYGAIN_TRACK_GAIN=-3.00 dB", "--tag=ARTIST=Pellowmere",
         f"--cuesheet={tmp_path / 'song.cue'}", voice)  # fmt: skip
    return made


def blocks(path: Path) -> dict[str, int]:
    """How many metadata blocks of each type metaflac finds."""
    types = re.findall(r"METADATA block #\d+\n  type: \d+ \((\w+)\)", done("metaflac", "--list", path))
    return {name: types.count(name) for name in types}


def test_all_that_a_flac_file_says_is_in_its_flac_render(song: Path, tmp_path: Path) -> None:
    out = tmp_path / "out.flac"
    render(song, out, LOWER, format="flac", bits=24)
    assert done("flac", "-t", "-s", out) == ""
    tags = done("metaflac", "--export-tags-to=-", out).splitlines()
    assert tags == ["TITLE=Lämp", "MOOD=calm", "PERFORMER=One", "PERFORMER=Two", "ARTIST=Pellowmere"]
    done("metaflac", f"--export-picture-to={tmp_path / 'out.png'}", out)
    assert (tmp_path / "out.png").read_bytes() == PIXEL
    sheets = [done("metaflac", "--export-cuesheet-to=-", path) for path in (song, out)]
    assert sheets[0].splitlines()[1:] == sheets[1].splitlines()[1:]
    assert len(sheets[1]) > 50
    told, codecs = probed(out)
    assert told["title"] == "Lämp"
    assert codecs == ["flac", "png"]
    assert np.allclose(soundfile.read(out)[0], soundfile.read(song)[0] * 10 ** (-3 / 20), atol=1e-6)
    # and once more: nothing is said twice
    render(out, tmp_path / "again.flac", NO_GAIN, format="flac", bits=24)
    assert blocks(tmp_path / "again.flac") == blocks(out)
    # a WAV file has words for some of it
    render(song, tmp_path / "out.wav", NO_GAIN, format="wav", bits=24)
    told, codecs = probed(tmp_path / "out.wav")
    assert (told["title"], told["artist"]) == ("Lämp", "Pellowmere")
    assert [chunk.name for chunk in read_chunks(tmp_path / "out.wav")] == [b"LIST"]
    with SoundReader(tmp_path / "out.wav") as reader:
        assert reader.info.frames == soundfile.info(song).frames


def test_what_tells_of_times_stays_with_its_samples(song: Path, tmp_path: Path) -> None:
    """A cue sheet of a recording whose clips were moved would be wrong: it is left out, and the rest is said."""
    moved = Composed((Piece(song, 1000, 30_000, 1000),), RATE, 1, 30_000)
    render(moved, tmp_path / "out.flac", NO_GAIN, format="flac", bits=24)
    names = [chunk.name for chunk in read_flac(tmp_path / "out.flac")]
    assert CUESHEET not in names
    assert PICTURE in names
    assert "MOOD=calm" in done("metaflac", "--export-tags-to=-", tmp_path / "out.flac")


CHUNKS = (
    Chunk(b"LIST", b"INFOINAM\x04\0\0\0abc\0IXYZ\x04\0\0\0own\0"),
    Chunk(b"iXML", b"<BWFXML><SCENE>4</SCENE></BWFXML>"),
    Chunk(b"axml", b"<ebuCoreMain/> "),
    Chunk(b"odd ", b"\x01\x02\x03"),
    Chunk(b"smpl", struct.pack("<9I", *range(7), 1, 0) + struct.pack("<6I", 0, 0, 100, 200, 0, 0)),
)


def test_what_a_wav_file_says_goes_to_flac_and_back(tmp_path: Path) -> None:
    source, flac, back = (tmp_path / name for name in ("voice.wav", "out.flac", "back.wav"))
    said = (*CHUNKS, *chunks_of([]), Chunk(b"cue ", struct.pack("<IIIIIII", 1, 1, 480, 0x61746164, 0, 0, 480)))
    with SoundWriter(source, RATE, 1, bext=Bext(description="Scene 4", time_reference=123_456_789), chunks=said) as writer:
        writer.write(uneven_voice((-20.0,))[:, None])
    render(source, flac, NO_GAIN, format="flac", bits=24)
    assert done("flac", "-t", "-s", flac) == ""
    assert probed(flac)[0]["title"] == "abc"
    assert read_flac(flac)[-len(said) :] == said
    with SoundReader(flac) as reader:
        assert reader.info.bext is not None
        assert reader.info.bext.time_reference == 123_456_789
    render(flac, back, NO_GAIN, format="wav", bits=24)
    assert read_chunks(back) == said
    with SoundReader(back) as reader:
        assert reader.info.bext is not None
        assert (reader.info.bext.description, reader.info.bext.time_reference) == ("Scene 4", 123_456_789)
        assert len(reader.info.bext.coding_history.splitlines()) == 2
    assert np.array_equal(soundfile.read(source)[0], soundfile.read(back)[0])
    # the reference encoder gives all of it back as well
    done("flac", "-d", "-s", "-f", "--keep-foreign-metadata", "-o", tmp_path / "theirs.wav", flac)
    assert read_chunks(tmp_path / "theirs.wav") == said
    # and what it keeps is read here
    done("flac", "-s", "-f", "--keep-foreign-metadata", "-o", tmp_path / "theirs.flac", back)
    assert [chunk for chunk in read_flac(tmp_path / "theirs.flac") if chunk in said] == list(said)


def test_comments_and_pictures_of_ogg_and_the_tag_of_mp3(voice: Path, tmp_path: Path) -> None:
    picture = struct.pack(">II", 3, 9) + b"image/png" + struct.pack(">IIIIII", 0, 1, 1, 32, 0, len(PIXEL)) + PIXEL
    ogg, mp3 = tmp_path / "a.ogg", tmp_path / "a.mp3"
    told = ("-metadata", f"METADATA_BLOCK_PICTURE={base64.b64encode(picture).decode()}", "-metadata", "mood=calm")
    ffmpeg("-i", voice, *told, "-metadata", "title=Lämp", ogg)
    render(ogg, tmp_path / "out.flac", NO_GAIN, format="flac", bits=24)
    tags = {tag.lower() for tag in done("metaflac", "--export-tags-to=-", tmp_path / "out.flac").splitlines()}
    assert {"title=lämp", "mood=calm"} <= tags
    assert probed(tmp_path / "out.flac")[1] == ["flac", "png"]
    (tmp_path / "cover.png").write_bytes(PIXEL)
    art = ("-map", "0", "-map", "1", "-c:v", "copy", "-disposition:v", "attached_pic")
    ffmpeg("-i", voice, "-i", tmp_path / "cover.png", *art, "-metadata", "TSOP=Sort", "-metadata", "title=Lämp", mp3)
    render(mp3, tmp_path / "out.wav", NO_GAIN, format="wav", bits=24)
    tags_now, codecs = probed(tmp_path / "out.wav")
    assert tags_now["title"] == "Lämp"
    # players find the picture in a chunk called id3
    (tag,) = (chunk for chunk in read_chunks(tmp_path / "out.wav") if chunk.name == b"id3 ")
    assert PIXEL in tag.body
    assert mp3.read_bytes().startswith(tag.body)
    assert codecs[0] == "pcm_s24le"
    render(mp3, tmp_path / "of mp3.flac", NO_GAIN, format="flac", bits=24)
    assert probed(tmp_path / "of mp3.flac")[1] == ["flac", "png"]


@pytest.mark.parametrize("ending", [".m4a", ".mka"])
def test_the_cover_of_what_is_decoded_comes_along(ending: str, voice: Path, tmp_path: Path) -> None:
    memo, cover = tmp_path / f"memo{ending}", tmp_path / "cover.png"
    cover.write_bytes(PIXEL)
    if ending == ".mka":
        attached = ("-attach", cover, "-metadata:s:t", "mimetype=image/png", "-metadata:s:t", "filename=cover.png")
        ffmpeg("-i", voice, *attached, "-c:a", "flac", memo)
    else:
        art = ("-map", "0", "-map", "1", "-c:v", "copy", "-disposition:v", "attached_pic")
        ffmpeg("-i", voice, "-i", cover, *art, "-c:a", "aac", memo)
    ffmpeg("-i", memo, "-map", "0:a", "-c:a", "copy", tmp_path / f"plain{ending}")
    sounds = []
    for source in (memo, tmp_path / f"plain{ending}"):
        with as_read(source) as sound:
            sounds.append(soundfile.read(sound)[0])
            if source is memo:
                (tag,) = (chunk for chunk in read_chunks(sound) if chunk.name == b"id3 ")
                assert PIXEL in tag.body
                render(sound, tmp_path / "out.flac", NO_GAIN, format="flac", bits=24)
    # the picture takes nothing of the sound
    assert np.array_equal(*sounds)
    assert probed(tmp_path / "out.flac")[1] == ["flac", "png"]
    done("metaflac", f"--export-picture-to={tmp_path / 'out.png'}", tmp_path / "out.flac")
    assert (tmp_path / "out.png").read_bytes() == PIXEL


def test_a_file_that_says_nothing_gets_no_blocks(voice: Path, tmp_path: Path) -> None:
    ffmpeg("-i", voice, "-bitexact", "-map_metadata", "-1", tmp_path / "a.flac")
    render(tmp_path / "a.flac", tmp_path / "out.flac", NO_GAIN, format="flac", bits=24)
    assert set(blocks(tmp_path / "out.flac")) <= {"STREAMINFO", "VORBIS_COMMENT", "PADDING", "SEEKTABLE"}


def test_what_lies_of_its_length_is_left_out(song: Path, voice: Path, tmp_path: Path) -> None:
    whole = song.read_bytes()
    damaged = tmp_path / "damaged.flac"
    for at in range(4, 3000, 7):
        damaged.write_bytes(whole[:at] + b"\xff\xff\xff" + whole[at + 3 :])
        assert isinstance(read_flac(damaged), tuple)
    for reads in (read_flac, read_vorbis, read_id3):
        assert reads(voice) == ()
    damaged.write_bytes(b"ID3\x04\0\0\x7f\x7f\x7f\x7f" + bytes(100))
    assert (read_id3(damaged), read_flac(damaged)) == ((), ())
    assert read_flac(song, most=10) == ()
    # a page that begins a packet which never ends
    page = b"OggS" + bytes(22) + b"\xff" + b"\xff" * 255 + bytes(255 * 255)
    damaged.write_bytes(page * 400)
    assert read_vorbis(damaged) == ()


@given(st.binary(max_size=400))
def test_no_bytes_break_it(data: bytes) -> None:
    with tempfile.NamedTemporaryFile() as file:
        for lead in (b"fLaC", b"OggS" + bytes(22), b"ID3"):
            file.seek(0)
            file.truncate()
            file.write(lead + data)
            file.flush()
            for reads in (read_flac, read_vorbis, read_id3):
                assert isinstance(reads(Path(file.name)), tuple)


def test_chunks_that_are_said_with_a_flac_file_are_told_again(voice: Path, tmp_path: Path) -> None:
    """Of a file that is one track whole, also through a timeline that cuts it nowhere."""
    source = say(voice, [CHUNKS[1]])
    whole = Composed((Piece(source, 0, soundfile.info(source).frames, 0),), RATE, 1, soundfile.info(source).frames)
    render(whole, tmp_path / "out.flac", NO_GAIN, format="flac", bits=16)
    assert CHUNKS[1] in read_flac(tmp_path / "out.flac")
