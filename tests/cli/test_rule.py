"""The rule on the command line: a file of it, options beside it, and what is written of it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
import soundfile

from nivelus.core.rule import DEFAULT, with_values
from nivelus.core.rule_file import read_rule
from tests.conftest import detailed_voice, uneven_voice, write_sound
from tests.helpers.cli import run

ASKED = ("--target", -23, "--most-up", 15, "--breaths", -8, "--gaps-even", "--ride", 60, "--pace", "calm", "--bits", 16)
MEANT = {
    "target.level": -23.0,
    "phrases.most_up": 15.0,
    "details.breath.on": True,
    "details.breath.deepest": -60.0,
    "details.gap.on": True,
    "details.gap.even": True,
    "details.gap.deepest": -60.0,
    "ride.on": True,
    "ride.strength": 60.0,
    "ride.pace": "calm",
    "out.bits": 16,
}


@pytest.fixture
def voice(tmp_path: Path) -> Path:
    return write_sound(tmp_path / "voice.wav", detailed_voice())


def level(*arguments: object) -> dict[str, Any]:
    done = run("level", *arguments, "--json")
    assert done.returncode == 0, done.stderr
    (file,) = json.loads(done.stdout)["files"]
    return {name: value for name, value in file.items() if name != "output"}


def test_a_rule_that_was_saved_does_the_same_again(voice: Path, tmp_path: Path) -> None:
    rule, one, two = tmp_path / "voice.toml", tmp_path / "one.wav", tmp_path / "two.wav"
    asked = level(voice, "-o", one, *ASKED, "--save-rule", rule)
    assert read_rule(rule.read_bytes()) == with_values(DEFAULT, MEANT)
    assert level(voice, "-o", two, "--rule", rule) == asked
    assert one.read_bytes() == two.read_bytes()
    assert soundfile.info(two).subtype == "PCM_16"


def test_an_option_comes_before_the_file(voice: Path, tmp_path: Path) -> None:
    rule, again = tmp_path / "voice.toml", tmp_path / "again.toml"
    rule.write_text("[target]\nlevel = -30\n[phrases]\nmost_up = 20\n[ride]\non = true\n[out]\nformat = 'flac'\n")
    told = level(voice, "-o", tmp_path / "out", "--rule", rule, "--target", -26, "--save-rule", again)
    assert told["target"] == -26.0
    assert "ride" in told
    assert (tmp_path / "out" / "voice.flac").exists()
    saved = read_rule(again.read_bytes())
    assert (saved.target.level, saved.phrases.most_up) == (-26.0, 20.0)
    # a ride without a number is as strong as the rule says
    rule.write_text("[ride]\nstrength = 35\n")
    assert "ride" in level(voice, "-o", tmp_path / "ridden.wav", "--rule", rule, "--ride", "--save-rule", tmp_path / "r.toml")
    assert read_rule((tmp_path / "r.toml").read_bytes()).ride.strength == 35.0
    rule.write_text("[out]\nformat = 'flac'\n")
    # options are meant together: FLAC has no 32 bits
    rule.write_text("[out]\nbits = 32\n")
    level(voice, "-o", tmp_path / "both", "--rule", rule, "--format", "flac", "--bits", 16)
    done = run("level", voice, "-o", tmp_path / "both", "--rule", rule, "--format", "flac")
    assert (done.returncode, "FLAC takes 16 or 24 bits" in done.stderr) == (2, True)
    rule.write_text("[out]\nformat = 'flac'\n")
    # the name of the output says what it is
    level(voice, "-o", tmp_path / "out.wav", "--rule", rule)
    assert soundfile.info(tmp_path / "out.wav").format == "WAV"


def test_the_median_is_a_target(tmp_path: Path) -> None:
    voice = write_sound(tmp_path / "voice.wav", uneven_voice((-30.0, -20.0, -24.0, -28.0)))
    told = level(voice, "-o", tmp_path / "out.wav", "--target", "median")
    befores = sorted(phrase["before"] for phrase in told["phrases"])
    assert told["target"] == pytest.approx(sum(befores[1:3]) / 2, abs=0.01)
    assert told["base"] == 0.0


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("[phrases]\nmost_up = 70\n", "phrases.most_up is 70: it goes from 0 to 60 dB."),
        ("[target]\nkind = 'reference'\n", "aim at a level, or at the median"),
        ("[loud]\n", "A rule has no setting “loud”."),
        ("what is this", "no TOML"),
    ],
)
def test_a_file_that_is_no_rule_is_refused_and_nothing_is_written(voice: Path, tmp_path: Path, text: str, says: str) -> None:
    rule = tmp_path / "voice.toml"
    rule.write_text(text)
    done = run("level", voice, "-o", tmp_path / "out.wav", "--rule", rule)
    assert done.returncode == 1
    assert says in done.stderr
    assert {path.name for path in tmp_path.iterdir()} == {"voice.wav", "voice.toml"}


def test_a_rule_overwrites_nothing_and_is_never_overwritten(voice: Path, tmp_path: Path) -> None:
    rule = tmp_path / "voice.toml"
    rule.write_text("[target]\nlevel = -30\n")
    done = run("level", voice, "-o", tmp_path / "out.wav", "--save-rule", rule)
    assert done.returncode == 1
    assert "voice.toml" in done.stderr
    assert rule.read_text() == "[target]\nlevel = -30\n"
    assert not (tmp_path / "out.wav").exists()
    # also where overwriting is allowed
    sound = voice.read_bytes()
    for own in (voice, tmp_path / "out.wav"):
        done = run("level", voice, "-o", tmp_path / "out.wav", "--save-rule", own, "--overwrite")
        assert done.returncode == 2
        assert "a file of its own" in done.stderr
    assert voice.read_bytes() == sound
    missing = run("level", voice, "-o", tmp_path / "out.wav", "--rule", tmp_path / "none.toml")
    assert missing.returncode == 1
    assert "none.toml" in missing.stderr
    for words in (["--breaths", "3"], ["--target", "loud"], ["--base", "99"], ["--bits", "20"]):
        assert run("level", voice, "-o", tmp_path / "out.wav", *words).returncode == 2
