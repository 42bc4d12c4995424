"""The command line with a bed, a slow ride and the load: promised keys, and what is written measured from outside."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pyloudnorm
import pytest
import soundfile

from tests.conftest import RATE, uneven_voice, write_sound
from tests.helpers.cli import run


@pytest.fixture
def bed(tmp_path: Path) -> Path:
    noise = np.random.default_rng(1).standard_normal((20 * RATE, 2)) * 10 ** (-34 / 20)
    return write_sound(tmp_path / "sea.wav", noise)


@pytest.fixture
def voice(tmp_path: Path) -> Path:
    return write_sound(tmp_path / "voice.wav", uneven_voice((-30.0, -20.0, -24.0, -28.0) * 2))


def test_a_bed_makes_room_and_the_mix_lies_beside(tmp_path: Path, voice: Path, bed: Path) -> None:
    out, mix = tmp_path / "out.wav", tmp_path / "mix.wav"
    done = run("level", voice, "-o", out, "--bed", bed, "--distance", 14, "--mix", mix, "--json")
    assert done.returncode == 0, done.stderr
    (told,) = json.loads(done.stdout)["files"]
    assert set(told["bed"]) == {"points", "phrases", "without_bed", "mix", "highest"}
    assert all(phrase["after"] >= 13.9 for phrase in told["bed"]["phrases"])
    # what is under a word in the mix, less the levelled voice, is the bed that has gone down
    both, alone = soundfile.read(mix)[0], soundfile.read(out)[0]
    rest = both[: len(alone)] - alone[:, None]
    meter = pyloudnorm.Meter(RATE, block_size=0.4)
    for phrase in told["phrases"]:
        span = slice(round(phrase["start"] * RATE), round(phrase["end"] * RATE))
        heard = meter.integrated_loudness(np.stack([alone[span]] * 2, axis=1)) - meter.integrated_loudness(rest[span])
        assert heard >= 13.4


def test_a_duck_of_nothing_leaves_the_bed_alone(tmp_path: Path, voice: Path, bed: Path) -> None:
    done = run("level", voice, "-o", tmp_path / "out.wav", "--bed", bed, "--duck", 0, "--json")
    assert json.loads(done.stdout)["files"][0]["bed"]["points"] == []


def test_the_load_is_told_before_and_after(tmp_path: Path, voice: Path) -> None:
    done = run("level", voice, "-o", tmp_path / "out.wav", "--load", "--json")
    load = json.loads(done.stdout)["files"][0]["load"]
    assert " ".join(load) == "threshold ratio before after proposed_threshold at_proposed"
    assert " ".join(load["before"]) == "average spread highest over_3 over_6 over_10"
    assert load["at_proposed"]["average"] == pytest.approx(load["before"]["average"], abs=0.1)
    assert load["at_proposed"]["spread"] < load["before"]["spread"] / 2


def test_a_slow_ride_for_what_has_no_phrases(tmp_path: Path) -> None:
    noise = np.random.default_rng(1).standard_normal(40 * RATE)
    parts = write_sound(tmp_path / "choir.wav", noise * np.repeat(10 ** (np.array([-40.0, -28.0]) / 20), 20 * RATE))
    out = tmp_path / "even.wav"
    done = run("level", parts, "-o", out, "--slow", "--target", -30, "--most-up", 12, "--json")
    slow = json.loads(done.stdout)["files"][0]["slow"]
    assert set(slow) == {"target", "before", "after", "points"}
    assert slow["target"] == -30.0
    meter = pyloudnorm.Meter(RATE)
    sound = soundfile.read(out)[0]
    for middle in (8, 32):
        heard = meter.integrated_loudness(sound[(middle - 4) * RATE : (middle + 4) * RATE])
        assert heard == pytest.approx(-30.0, abs=1.0)


@pytest.mark.parametrize(
    ("options", "said"),
    [
        (["--duck", "-6"], "say --bed"),
        (["--bed", "BED", "--duck", "-6", "--distance", "12"], "not both"),
        (["--bed", "BED", "--mix", "mix.mp3"], ".wav or .flac"),
        (["--bed", "BED", "--mix", "OUT"], "are two files"),
        (["--bed", "BED", "--slow"], "one levelled voice at a time"),
    ],
)
def test_what_makes_no_sense_is_bad_usage(tmp_path: Path, voice: Path, bed: Path, options: list[str], said: str) -> None:
    names = {"BED": str(bed), "OUT": str(tmp_path / "out.wav")}
    done = run("level", voice, "-o", tmp_path / "out.wav", *(names.get(part, part) for part in options))
    assert done.returncode == 2
    assert said in done.stderr
    assert not (tmp_path / "out.wav").exists()


def test_the_mix_never_takes_the_place_of_the_bed(tmp_path: Path, voice: Path, bed: Path) -> None:
    before = bed.read_bytes()
    done = run("level", voice, "-o", tmp_path / "out.wav", "--bed", bed, "--mix", bed, "--overwrite")
    assert done.returncode == 1
    assert "is read from in this run" in done.stderr
    assert bed.read_bytes() == before
    assert not (tmp_path / "out.wav").exists()


def test_a_bed_that_is_none_is_said(tmp_path: Path, voice: Path) -> None:
    silent = write_sound(tmp_path / "silent.wav", np.zeros(RATE))
    done = run("level", voice, "-o", tmp_path / "out.wav", "--bed", silent)
    assert done.returncode == 1
    assert "silent from start to end" in done.stderr
