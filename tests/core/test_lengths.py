"""Length is what decodes: streams whose header says nothing of it, or something else. Compared with what ffmpeg decodes."""

from __future__ import annotations

import struct
import subprocess
import time
from pathlib import Path

import numpy as np
import pytest

from nivelus.core.errors import BrokenSamples, NivelusError, TooLoud, TruncatedSound
from nivelus.core.measure.grid import measure_file
from nivelus.core.sound.reader import SoundReader
from tests.conftest import hum, room, uneven_voice, write_sound
from tests.helpers.near import near

UNEVEN_LOAD = np.concatenate([hum(-20, 5.0, 44_100), room(-12, 5.0, 44_100), np.zeros(44_100 * 12)])
"""Sound of which the first seconds take far more bits than the rest, which misleads whoever estimates."""


def encoded(folder: Path, name: str, *options: str, piped: bool = False, rate: int = 44_100) -> Path:
    """UNEVEN_LOAD encoded by ffmpeg, to a file or through a pipe that cannot be sought back in."""
    source, out = write_sound(folder / "source.wav", UNEVEN_LOAD, 44_100, subtype="PCM_16"), folder / name
    command = ["ffmpeg", "-v", "error", "-y", "-i", str(source), "-ar", str(rate), *options]
    if piped:
        out.write_bytes(subprocess.run([*command, "-f", out.suffix[1:], "-"], capture_output=True, check=True).stdout)
    else:
        subprocess.run([*command, str(out)], check=True)
    return out


def decoded(path: Path) -> np.ndarray:
    """What ffmpeg makes of a file, (n,)."""
    command = ["ffmpeg", "-v", "error", "-i", str(path), "-f", "f32le", "-ac", "1", "-"]
    return np.frombuffer(subprocess.run(command, capture_output=True, check=True).stdout, "<f4")


CASES = {
    "vbr without a count": ("a.mp3", ("-q:a", "4", "-write_xing", "0"), False, 44_100),
    "cbr without a count": ("a.mp3", ("-b:a", "96k", "-write_xing", "0"), False, 44_100),
    "piped mp3": ("a.mp3", ("-b:a", "128k"), True, 44_100),
    "mpeg-2 without a count": ("a.mp3", ("-q:a", "5", "-write_xing", "0"), False, 22_050),
    "mpeg-2.5 without a count": ("a.mp3", ("-b:a", "16k", "-write_xing", "0"), False, 8_000),
    "streamed flac": ("a.flac", (), True, 44_100),
}


@pytest.mark.parametrize("case", CASES)
def test_all_of_a_stream_is_read(tmp_path: Path, case: str) -> None:
    name, options, piped, rate = CASES[case]
    path = encoded(tmp_path, name, *options, piped=piped, rate=rate)
    expected = decoded(path)
    with SoundReader(path) as reader:
        assert reader.info.frames == len(expected)
        whole = np.concatenate(list(reader.blocks(100_000)))[:, 0]
        middle = reader.read(len(expected) // 2, 5000)[:, 0]
    assert whole == near(expected, abs=1e-4)
    assert middle == near(expected[len(expected) // 2 :][:5000], abs=1e-4)
    _, grid, _ = measure_file(path)
    assert grid.duration == pytest.approx(len(expected) / rate)


def test_files_whose_header_is_right_are_read_as_it_says(tmp_path: Path) -> None:
    for name, options in (("a.mp3", ("-q:a", "4")), ("b.flac", ())):
        path = encoded(tmp_path, name, *options)
        with SoundReader(path) as reader:
            assert reader._view is None
            assert reader.info.frames == len(UNEVEN_LOAD)


def test_mp3_files_that_were_put_together_are_read_to_their_end(tmp_path: Path) -> None:
    """The first says how long it is, which is not how long both are."""
    one = encoded(tmp_path, "a.mp3", "-q:a", "4").read_bytes()
    both = tmp_path / "both.mp3"
    both.write_bytes(one + one)
    with SoundReader(both) as reader:
        assert reader.info.duration == pytest.approx(2 * len(UNEVEN_LOAD) / 44_100, abs=0.15)


def test_a_stream_that_was_cut_short_ends_where_it_does(tmp_path: Path) -> None:
    whole = encoded(tmp_path, "a.flac", piped=True).read_bytes()
    cut = tmp_path / "cut.flac"
    cut.write_bytes(whole[: len(whole) * 2 // 3])
    with SoundReader(cut) as reader:
        assert 0 < reader.info.frames < len(UNEVEN_LOAD)
        assert sum(len(block) for block in reader.blocks()) == reader.info.frames


def test_a_claim_of_length_takes_no_memory_and_no_time(tmp_path: Path) -> None:
    """2 to the power of 35 samples, in a file of some kB."""
    path = write_sound(tmp_path / "a.flac", hum(-20, 1.0))
    raw = bytearray(path.read_bytes())
    packed = int.from_bytes(raw[21:26], "big")
    raw[21:26] = (packed & ~((1 << 36) - 1) | 1 << 35).to_bytes(5, "big")
    path.write_bytes(raw)
    begun = time.monotonic()
    with pytest.raises(TruncatedSound):
        measure_file(path)
    assert time.monotonic() - begun < 2.0


def wav(*chunks: tuple[bytes, bytes], head: bytes = b"RIFF") -> bytes:
    body = b"".join(name + struct.pack("<I", len(data)) + data + b"\0" * (len(data) & 1) for name, data in chunks)
    return head + struct.pack("<I", len(body) + 4) + b"WAVE" + body


FORMAT = struct.pack("<HHIIHH", 1, 1, 48_000, 96_000, 2, 16)
SOUND = (np.sin(np.arange(48_000) / 20) * 8000).astype("<i2").tobytes()


def test_a_short_ds64_chunk_is_no_traceback(tmp_path: Path) -> None:
    path = tmp_path / "a.wav"
    for length in (0, 1, 7, 15):
        path.write_bytes(wav((b"ds64", bytes(length)), (b"fmt ", FORMAT), (b"data", SOUND), head=b"RF64"))
        try:
            measure_file(path)
        except NivelusError as error:
            told = error.sentence
            assert told.endswith(".")


def test_zeros_behind_the_sound_cost_nothing(tmp_path: Path) -> None:
    path = tmp_path / "a.wav"
    path.write_bytes(wav((b"fmt ", FORMAT), (b"data", SOUND)))
    with path.open("r+b") as handle:
        handle.truncate(200_000_000)
    begun = time.monotonic()
    info, _, _ = measure_file(path)
    assert info.frames == 48_000
    assert time.monotonic() - begun < 3.0


@pytest.mark.parametrize(
    ("value", "error"), [(1e25, TooLoud), (-2e3, TooLoud), (np.inf, BrokenSamples), (np.nan, BrokenSamples)]
)
def test_samples_that_cannot_be_meant_are_refused(tmp_path: Path, value: float, error: type[NivelusError]) -> None:
    sound = uneven_voice((-20.0,))
    sound[30_000] = value
    for subtype in ("FLOAT", "DOUBLE"):
        with pytest.raises(error):
            measure_file(write_sound(tmp_path / "a.wav", sound, subtype=subtype))
    sound[30_000] = 900.0
    _, grid, _ = measure_file(write_sound(tmp_path / "b.wav", sound, subtype="FLOAT"))
    assert np.isfinite(grid.data).all()
