"""Reading and writing sound files: every format and rate that is promised, and every kind of bad file by name."""

from __future__ import annotations

import struct
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.errors import Refused, SoundError
from nivelus.core.sound.bwf import parse_bext, write_bext
from nivelus.core.sound.reader import SoundReader
from nivelus.core.sound.writer import SoundWriter, quantise
from tests.conftest import RATE, write_sound
from tests.helpers.files import BEXT, VOICE, bad_files


def read_all(path: Path, blocks: int = 1000) -> np.ndarray:
    with SoundReader(path) as reader:
        return np.concatenate(list(reader.blocks(blocks)))


@pytest.mark.parametrize(
    ("name", "subtype", "format", "bits"),
    [
        ("a.wav", "PCM_16", None, 16),
        ("a.wav", "PCM_24", None, 24),
        ("a.wav", "FLOAT", None, 32),
        ("a.wav", "PCM_24", "RF64", 24),
        ("a.wav", "PCM_24", "WAVEX", 24),
        ("a.aiff", "PCM_16", None, 16),
        ("a.aiff", "PCM_24", None, 24),
        ("a.flac", "PCM_16", None, 16),
        ("a.flac", "PCM_24", None, 24),
    ],
)
@pytest.mark.parametrize("channels", [1, 2])
def test_every_lossless_format_gives_its_very_samples(
    tmp_path: Path, name: str, subtype: str, format: str | None, bits: int, channels: int
) -> None:
    samples = np.stack([VOICE, -0.5 * VOICE], axis=1)[:, :channels]
    path = write_sound(tmp_path / name, samples, subtype=subtype, format=format)
    with SoundReader(path) as reader:
        info = reader.info
    assert (info.sample_rate, info.channels, info.frames, info.bits) == (RATE, channels, len(VOICE), bits)
    expected, _ = soundfile.read(path, dtype="float32", always_2d=True)
    assert (read_all(path) == expected).all()


@pytest.mark.parametrize("name", ["a.ogg", "a.mp3"])
def test_lossy_formats_are_read(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    soundfile.write(path, np.stack([VOICE, VOICE], axis=1), 44_100)
    got = read_all(path)
    assert got.shape[1] == 2
    # block by block is what one long read gives, and so is reading from the middle
    whole, _ = soundfile.read(path, dtype="float32")
    assert (got == whole).all()
    with SoundReader(path) as reader:
        for start in (40_001, 3, 20_000):
            np.testing.assert_allclose(reader.read(start, 3000), whole[start : start + 3000], atol=1e-6)
    assert np.sqrt(np.mean(got**2)) == pytest.approx(np.sqrt(np.mean(VOICE**2)), rel=0.1)


@pytest.mark.parametrize("rate", [8_000, 11_025, 44_100, 96_000, 192_000])
def test_every_rate_from_8_to_192_khz(tmp_path: Path, rate: int) -> None:
    with SoundReader(write_sound(tmp_path / "a.wav", VOICE, rate)) as reader:
        assert reader.info.sample_rate == rate
        assert reader.info.duration == pytest.approx(len(VOICE) / rate)


def test_reading_from_the_middle_is_reading_through(tmp_path: Path) -> None:
    path = write_sound(tmp_path / "a.flac", VOICE)
    whole = read_all(path)
    with SoundReader(path) as reader:
        for start, count in ((0, 10), (50_000, 4000), (7, 1), (len(VOICE) - 5, 100)):
            assert (reader.read(start, count) == whole[start : start + count]).all()


KINDS = ["empty", "no samples", "text", "random", "cut wav", "cut aiff", "cut flac", "cut ogg"]
KINDS += ["header only", "surround", "too slow", "too fast"]


@pytest.mark.parametrize("kind", KINDS)
def test_a_bad_file_is_named_with_the_reason(tmp_path: Path, kind: str) -> None:
    path, error, words = bad_files(tmp_path)[kind]
    with pytest.raises(error, match=words) as caught:
        read_all(path)
    assert path.name in caught.value.sentence


@given(st.binary(max_size=400))
@settings(deadline=None)
def test_any_bytes_end_in_a_sentence(tmp_path_factory: pytest.TempPathFactory, content: bytes) -> None:
    path = tmp_path_factory.mktemp("any") / "any.wav"
    for head in (b"", b"RIFF\x10\0\0\0WAVE", b"FORM\0\0\0\x10AIFF", b"fLaC", b"OggS"):
        path.write_bytes(head + content)
        try:
            read_all(path)
        except SoundError as error:
            assert "any.wav" in error.sentence  # noqa: PT017


@pytest.mark.parametrize(("format", "bits"), [("wav", 16), ("wav", 24), ("wav", 32), ("flac", 16), ("flac", 24)])
def test_what_is_written_an_independent_reader_reads(tmp_path: Path, format: str, bits: int) -> None:
    path = tmp_path / f"out.{format}"
    exact = np.round(VOICE * 32767)[:, None] / 32768
    with SoundWriter(path, 44_100, 1, format, bits) as writer:
        for start in range(0, len(exact), 7001):
            writer.write(exact[start : start + 7001])
    got, rate = soundfile.read(path, always_2d=True)
    assert rate == 44_100
    assert soundfile.info(path).subtype == ("FLOAT" if bits == 32 else f"PCM_{bits}")
    assert (got == exact).all()


def test_a_file_appears_whole_or_not_at_all(tmp_path: Path) -> None:
    path = tmp_path / "out.wav"
    with pytest.raises(RuntimeError), SoundWriter(path, RATE, 1) as writer:
        writer.write(VOICE[:, None])
        assert not path.exists()
        raise RuntimeError
    assert list(tmp_path.iterdir()) == []


def test_a_failed_write_leaves_the_older_file_alone(tmp_path: Path) -> None:
    path = write_sound(tmp_path / "out.wav", VOICE)
    before = path.read_bytes()
    with pytest.raises(RuntimeError), SoundWriter(path, RATE, 1) as writer:
        writer.write(VOICE[:100, None])
        raise RuntimeError
    assert path.read_bytes() == before


def test_what_cannot_be_written_is_refused(tmp_path: Path) -> None:
    for format, bits in (("flac", 32), ("wav", 20), ("mp3", 16)):
        with pytest.raises(Refused):
            SoundWriter(tmp_path / "x", RATE, 1, format, bits)


def test_integers_pass_undithered_and_the_rest_is_dithered_within_a_step_and_a_half() -> None:
    random = np.random.Generator(np.random.SFC64(1))
    exact = np.arange(-100, 100)[:, None] / 32768
    assert (quantise(exact, 16, random)[:, 0] == np.arange(-100, 100)).all()
    between = np.full((1000, 1), 0.3 / 32768)
    steps = quantise(between, 16, random)
    assert len(np.unique(steps)) > 1
    assert np.abs(steps - 0.3).max() <= 1.5
    assert steps.mean() == pytest.approx(0.3, abs=0.1)


def test_what_passes_full_scale_is_clipped_not_wrapped() -> None:
    assert quantise(np.array([[1.5], [-1.5]]), 24).ravel().tolist() == [2**23 - 1, -(2**23)]


def test_a_broadcast_chunk_survives_the_round_trip() -> None:
    assert parse_bext(write_bext(BEXT)) == BEXT
    unset = replace(BEXT, loudness=None, true_peak=None)
    assert parse_bext(write_bext(unset)) == unset


def test_the_broadcast_chunk_lies_as_ebu_tech_3285_says() -> None:
    """EBU Tech 3285 version 2: TimeReference at byte 338, Version at 346, LoudnessValue at 412 as 100 x the value."""
    raw = write_bext(BEXT)
    assert struct.unpack_from("<Q", raw, 338)[0] == BEXT.time_reference
    assert struct.unpack_from("<H", raw, 346)[0] == 2
    assert struct.unpack_from("<5h", raw, 412) == (-2304, 750, -101, -1820, -2033)


def test_an_older_chunk_has_no_loudness() -> None:
    raw = bytearray(write_bext(BEXT))
    struct.pack_into("<H", raw, 346, 1)
    parsed = parse_bext(bytes(raw))
    assert parsed is not None
    assert parsed.loudness is None
    assert parsed.time_reference == BEXT.time_reference
    assert parse_bext(bytes(raw[:100])) is None


def test_the_start_stamp_is_read_from_a_file(tmp_path: Path) -> None:
    path = tmp_path / "stamped.wav"
    with SoundWriter(path, RATE, 1, "wav", 24, BEXT) as writer:
        writer.write(VOICE[:, None])
    with SoundReader(path) as reader:
        assert reader.info.bext == BEXT
    assert soundfile.info(path).frames == len(VOICE)
