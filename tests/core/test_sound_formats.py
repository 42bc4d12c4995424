"""The table of sound formats: what is listed as read and written is."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from nivelus.core.errors import NotSound, Refused
from nivelus.core.sound.decoding import decode
from nivelus.core.sound.reader import SoundReader
from nivelus.core.sound.writer import SoundWriter
from nivelus.core.sound_formats import (
    EXTENSIONS,
    FORMATS,
    OF_DECODER,
    WRITTEN,
    SoundFormat,
    every_format,
    why_not_written,
    written_by_name,
)
from tests.conftest import uneven_voice, write_sound
from tests.helpers.media import as_ffmpeg_decodes, encoded

RATE = 44_100
READ = [(one, ending) for one in FORMATS if one.decoded for ending in one.endings]
DECODED = [(one, ending) for one in FORMATS if one.demuxers for ending in one.endings]


@pytest.mark.parametrize(("one", "ending"), READ, ids=[ending for _, ending in READ])
def test_a_file_of_every_format_is_read_by_every_name_that_is_listed(one: SoundFormat, ending: str, tmp_path: Path) -> None:
    path = tmp_path / f"voice{ending}"
    sound = 0.2 * np.sin(np.arange(RATE) * 0.05)
    soundfile.write(path, sound, RATE, format=one.decoded[0], subtype=one.coding)
    with SoundReader(path) as reader:
        info = reader.info
    assert OF_DECODER[info.format] is one
    assert (info.sample_rate, info.channels) == (RATE, 1)
    assert info.seeks_exactly != one.is_lossy


@pytest.mark.parametrize(("one", "ending"), DECODED, ids=[ending for _, ending in DECODED])
def test_a_file_of_every_other_format_is_decoded_by_every_name_that_is_listed(
    one: SoundFormat, ending: str, tmp_path: Path
) -> None:
    source = write_sound(tmp_path / "voice.wav", uneven_voice())
    path = encoded(source, tmp_path / f"voice{ending}")
    with pytest.raises(NotSound):
        SoundReader(path)
    told = decode(path, tmp_path / "out.wav")
    assert told.words in one.words
    assert told.damaged == 0
    ours, theirs = soundfile.read(tmp_path / "out.wav", always_2d=True)[0][:, 0], as_ffmpeg_decodes(path)
    assert abs(len(ours) - len(theirs)) <= 1
    # a decoder of another year rounds otherwise
    assert np.abs(ours[: len(theirs)] - theirs[: len(ours)]).max() < 0.002


@pytest.mark.parametrize("one", WRITTEN, ids=[one.name for one in WRITTEN])
@pytest.mark.parametrize("bits", [8, 16, 24, 32])
def test_a_format_is_written_with_the_bits_that_are_listed_and_no_others(one: SoundFormat, bits: int, tmp_path: Path) -> None:
    path = tmp_path / f"voice.{one.name}"
    if bits not in one.bits:
        with pytest.raises(Refused, match=f"{one.words[0]} takes"):
            SoundWriter(path, RATE, 1, one.name, bits)
        return
    assert why_not_written(one.name, bits) is None
    with SoundWriter(path, RATE, 1, one.name, bits) as writer:
        writer.write(np.zeros((RATE, 1)))
    assert OF_DECODER[soundfile.info(path).format] is one
    assert written_by_name(path) == one.name


def test_the_table_of_the_docs_is_this_one() -> None:
    docs = (Path(__file__).parents[2] / "docs" / "formats.md").read_text()
    for one in FORMATS:
        bits = f" {', '.join(map(str, sorted(one.bits)))} bits " if one.bits else " "
        assert f"| {', '.join(one.words)} | {' '.join(one.endings)} |{bits}|\n" in docs


def test_what_is_only_read_is_not_written() -> None:
    for one in FORMATS:
        if not one.bits:
            assert written_by_name(Path(f"voice{one.endings[0]}")) is None
            assert why_not_written(one.name, 24)


def test_no_two_formats_share_a_name_an_ending_or_a_decoder() -> None:
    for names in (
        [one.name for one in FORMATS],
        EXTENSIONS,
        [name for one in FORMATS for name in (*one.decoded, *one.demuxers)],
    ):
        assert len(set(names)) == len(names)
    assert every_format("or") == "WAV, BWF, RF64, AIFF, FLAC, Ogg Vorbis, MP3, M4A, MP4, MOV, MKV, WebM or the like"
