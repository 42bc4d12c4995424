"""Rendering: length, rate and stamp of the source, null where nothing was moved, and a file that is whole or absent."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from nivelus.core.deliver.level import level_file
from nivelus.core.deliver.render import render
from nivelus.core.errors import Cancelled, TruncatedSound
from nivelus.core.gain.compiled import GainCurve
from nivelus.core.measure.grid import measure_file
from nivelus.core.measure.loudness import figures
from nivelus.core.measure.spans import span_levels
from nivelus.core.rule import DEFAULT, with_values
from nivelus.core.sound.reader import SoundReader
from nivelus.core.sound.writer import SoundWriter
from tests.conftest import hum, uneven_voice, write_sound
from tests.helpers.files import BEXT

FLAT = GainCurve(np.array([0.0]), np.array([0.0]))


def data_chunk(path: Path) -> bytes:
    raw = path.read_bytes()
    at = raw.index(b"data")
    return raw[at + 8 : at + 8 + int.from_bytes(raw[at + 4 : at + 8], "little")]


@pytest.mark.parametrize(("subtype", "bits"), [("PCM_16", 16), ("PCM_24", 24), ("FLOAT", 32)])
@pytest.mark.parametrize("channels", [1, 2])
def test_at_0_db_the_render_is_the_source_bit_for_bit(tmp_path: Path, subtype: str, bits: int, channels: int) -> None:
    samples = np.stack([uneven_voice(), uneven_voice()[::-1]], axis=1)[:, :channels]
    source = write_sound(tmp_path / "in.wav", samples, subtype=subtype)
    render(source, tmp_path / "out.wav", FLAT, bits=bits)
    assert data_chunk(tmp_path / "out.wav") == data_chunk(source)


def test_a_flac_of_24_bits_comes_back_to_the_bit(tmp_path: Path) -> None:
    source = write_sound(tmp_path / "in.flac", uneven_voice())
    render(source, tmp_path / "out.flac", FLAT, format="flac", bits=24)
    a, b = (soundfile.read(tmp_path / name, dtype="int32")[0] for name in ("in.flac", "out.flac"))
    assert (a == b).all()


def test_a_render_has_the_length_rate_and_stamp_of_its_source(tmp_path: Path) -> None:
    source = tmp_path / "in.wav"
    with SoundWriter(source, 44_100, 2, "wav", 24, BEXT) as writer:
        writer.write(np.stack([hum(-20, 3), hum(-30, 3)], axis=1))
    curve = GainCurve(np.array([0.0, 60_000.0, 61_000.0]), np.array([0.0, 0.0, -6.0]))
    measured = figures(measure_file(source)[1])
    render(source, tmp_path / "out.wav", curve, figures=measured)
    with SoundReader(source) as a, SoundReader(tmp_path / "out.wav") as b:
        assert (a.info.frames, a.info.sample_rate, a.info.channels) == (b.info.frames, b.info.sample_rate, b.info.channels)
        assert b.info.bext is not None
        assert b.info.bext.time_reference == BEXT.time_reference
        assert b.info.bext.description == BEXT.description
        assert b.info.bext.loudness == pytest.approx(measured.integrated, abs=0.006)
        assert b.info.bext.true_peak == pytest.approx(measured.true_peak, abs=0.006)


def test_the_fader_is_in_the_render_only_when_asked_for(tmp_path: Path) -> None:
    source = write_sound(tmp_path / "in.wav", hum(-20, 1))
    render(source, tmp_path / "plain.wav", FLAT)
    render(source, tmp_path / "faded.wav", FLAT, fader=-6.0, bits=32)
    plain, faded = soundfile.read(tmp_path / "plain.wav")[0], soundfile.read(tmp_path / "faded.wav")[0]
    np.testing.assert_allclose(faded, plain * 10 ** (-6 / 20), atol=1e-7)


def test_the_same_render_is_the_same_file(tmp_path: Path) -> None:
    """The dither of 16 bits is drawn from a fixed seed."""
    source = write_sound(tmp_path / "in.wav", hum(-20, 2))
    curve = GainCurve(np.array([0.0]), np.array([-3.3]))
    for name in ("one.wav", "two.wav"):
        render(source, tmp_path / name, curve, bits=16)
    assert (tmp_path / "one.wav").read_bytes() == (tmp_path / "two.wav").read_bytes()


def test_a_stopped_render_leaves_nothing(tmp_path: Path) -> None:
    source = write_sound(tmp_path / "in.wav", np.tile(hum(-20, 4), 5))

    def stop(share: float) -> None:
        raise Cancelled("Stopped.")

    with pytest.raises(Cancelled):
        render(source, tmp_path / "out.wav", FLAT, progress=stop)
    assert [p.name for p in tmp_path.iterdir()] == ["in.wav"]


def test_levelling_a_file_brings_its_phrases_to_the_target(tmp_path: Path) -> None:
    source = write_sound(tmp_path / "in.wav", uneven_voice())
    rule = with_values(DEFAULT, {"target.level": -22.0, "phrases.most_up": 20.0, "phrases.noise_limit": -20.0})
    result = level_file(source, tmp_path / "out.wav", rule)
    assert len(result.phrases) == 4
    assert result.evenness_before.level < result.evenness_after.level == 4
    rendered = measure_file(tmp_path / "out.wav")[1]
    for phrase in result.phrases:
        heard = span_levels(rendered, phrase.start, phrase.end).loudness
        assert heard == pytest.approx(phrase.after, abs=0.1)
        assert heard == pytest.approx(-22.0, abs=1.6)
    assert figures(rendered).integrated == pytest.approx(result.after.integrated, abs=0.1)
    assert figures(rendered).true_peak == pytest.approx(result.after.true_peak, abs=0.1)


def test_a_bad_source_leaves_no_output(tmp_path: Path) -> None:
    source = write_sound(tmp_path / "in.wav", uneven_voice())
    source.write_bytes(source.read_bytes()[:-5000])
    with pytest.raises(TruncatedSound):
        level_file(source, tmp_path / "out.wav")
    assert [p.name for p in tmp_path.iterdir()] == ["in.wav"]
