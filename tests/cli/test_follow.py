"""The command line with several microphones of one voice: all of them get the gain of the first, to the last bit."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pyloudnorm
import pytest
import soundfile

from tests.conftest import RATE, detailed_voice, write_sound
from tests.helpers.cli import run
from tests.helpers.microphones import second_microphone
from tests.helpers.near import near


@pytest.fixture
def microphones(tmp_path: Path) -> tuple[Path, Path]:
    voice = detailed_voice()
    boom = write_sound(tmp_path / "boom.wav", voice, subtype="FLOAT")
    return boom, write_sound(tmp_path / "lapel.wav", second_microphone(voice), subtype="FLOAT")


def test_other_microphones_get_the_same_gain(tmp_path: Path, microphones: tuple[Path, Path]) -> None:
    boom, lapel = microphones
    longer = write_sound(tmp_path / "room.wav", 0.2 * np.resize(detailed_voice(44_100), 9 * 44_100), 44_100, "FLOAT")
    out = tmp_path / "out"
    out.mkdir()
    more = ["--breaths", "-8", "--ride", "--bits", 32, "--follow", lapel, "--follow", longer]
    done = run("level", boom, "-o", out, *more, "--json")
    assert done.returncode == 0, done.stderr
    (told,) = json.loads(done.stdout)["files"]
    assert [Path(one["output"]).name for one in told["followers"]] == ["lapel.wav", "room.wav"]
    sources = [soundfile.read(path, dtype="float32")[0] for path in (boom, lapel)]
    outs = [soundfile.read(out / path.name, dtype="float32")[0] for path in (boom, lapel)]
    loud = np.all([np.abs(source) > 1e-3 for source in sources], axis=0)
    gains = [made[loud] / source[loud] for made, source in zip(outs, sources, strict=True)]
    assert np.ptp(20 * np.log10(gains[0])) > 3
    assert gains[1] == near(gains[0], rel=3e-7)
    info = soundfile.info(out / "room.wav")
    assert (info.samplerate, info.frames) == (44_100, 9 * 44_100)
    # both figures are those of the files, to a hundredth
    for one, path in zip(told["followers"], (lapel, longer), strict=True):
        rate = soundfile.info(path).samplerate
        for side, file in (("before", path), ("after", out / path.name)):
            samples = soundfile.read(file)[0]
            assert one[side]["integrated"] == pytest.approx(pyloudnorm.Meter(rate).integrated_loudness(samples), abs=0.1)


def test_it_is_told_in_a_line(tmp_path: Path, microphones: tuple[Path, Path]) -> None:
    boom, lapel = microphones
    out = tmp_path / "out"
    out.mkdir()
    done = run("level", boom, "-o", out, "--follow", lapel)
    assert done.returncode == 0, done.stderr
    assert f"{lapel} -> {out / 'lapel.wav'}: the same gain, " in done.stdout


@pytest.mark.parametrize(
    ("options", "said"),
    [
        (["-o", "OUT/one.wav", "--follow", "LAPEL"], "need a folder"),
        (["-o", "OUT", "--follow", "LAPEL", "--slow"], "one levelled voice at a time"),
        (["LAPEL", "-o", "OUT", "--follow", "LAPEL"], "one levelled voice at a time"),
        (["-o", "OUT", "--follow", "NOTHING"], "NOTHING"),
        (["-o", "HERE", "--follow", "LAPEL"], "is read from in this run and is never written over"),
    ],
)
def test_what_cannot_be_is_said(tmp_path: Path, microphones: tuple[Path, Path], options: list[str], said: str) -> None:
    boom, lapel = microphones
    out = tmp_path / "out"
    out.mkdir()
    for name, path in (("OUT", out), ("LAPEL", lapel), ("HERE", tmp_path)):
        options = [option.replace(name, str(path)) for option in options]
    before = lapel.read_bytes()
    done = run("level", boom, *options)
    assert done.returncode != 0
    assert said in done.stderr
    assert "Traceback" not in done.stderr
    assert lapel.read_bytes() == before


def test_a_follower_that_is_no_sound_leaves_the_voice_levelled(tmp_path: Path, microphones: tuple[Path, Path]) -> None:
    boom, _ = microphones
    (tmp_path / "notes.wav").write_text("no sound at all")
    out = tmp_path / "out"
    out.mkdir()
    done = run("level", boom, "-o", out, "--follow", tmp_path / "notes.wav")
    assert done.returncode != 0
    assert "notes.wav" in done.stderr
    assert [path.name for path in out.iterdir()] == ["boom.wav"]
    assert soundfile.info(out / "boom.wav").frames == len(detailed_voice())
    assert soundfile.info(out / "boom.wav").samplerate == RATE
