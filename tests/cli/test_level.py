"""nivelus level: what it turns down, rides, and tells of what held it back."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile

from tests.conftest import BREATHS, detailed_voice, uneven_voice, write_sound
from tests.helpers.cli import run
from tests.helpers.near import near
from tests.helpers.sounds import with_a_click, with_a_doubtful_breath


def test_level_turns_details_down_when_asked(detailed_file: Path, tmp_path: Path) -> None:
    plain, out = tmp_path / "plain.wav", tmp_path / "out.wav"
    assert run("level", detailed_file, "-o", plain, "--strength", 0).returncode == 0
    done = run(
        *("level", detailed_file, "-o", out, "--strength", 0),
        *("--breaths", -8, "--esses", -6, "--knocks", -6, "--gaps", -20, "--json"),
    )
    assert done.returncode == 0, done.stderr
    (file,) = json.loads(done.stdout)["files"]
    assert list(file) == ["input", "output", "target", "base", "held", "phrases", "details", "before", "after"]
    assert all(list(detail) == ["kind", "start", "end", "depth", "reason"] for detail in file["details"])
    assert [detail["depth"] for detail in file["details"] if detail["kind"] == "breath"] == [-8.0] * 3
    a, b = (soundfile.read(path)[0] for path in (plain, out))
    start, end = (round(at * 48_000) for at in (BREATHS[1][0] + 0.03, BREATHS[1][1] - 0.03))
    assert 10 * np.log10(np.sum(b[start:end] ** 2) / np.sum(a[start:end] ** 2)) == pytest.approx(-8.0, abs=0.5)


def test_gaps_go_to_one_level_and_close_as_they_are_told(detailed_file: Path, tmp_path: Path) -> None:
    depths = []
    for words in (
        ["--gaps", "-20"],
        ["--gaps-even"],
        ["--gaps-even", "--gaps", "-6", "--gaps-close", "10", "--gaps-open", "5"],
    ):
        done = run("level", detailed_file, "-o", tmp_path / "out.wav", "--json", "--overwrite", "--breaths", "-8", *words)
        assert done.returncode == 0, done.stderr
        (file,) = json.loads(done.stdout)["files"]
        depths.append([detail["depth"] for detail in file["details"] if detail["kind"] == "gap"])
    assert min(depths[0]) < -10
    assert all(even >= plain - 1e-6 for even, plain in zip(depths[1], depths[0], strict=True))
    assert min(depths[2]) >= -6
    assert run("level", detailed_file, "-o", tmp_path / "no.wav", "--gaps", "-9", "--gaps-close", "60").returncode == 2


def test_a_curve_that_was_asked_for_leaves_phrases_level(detailed_file: Path, tmp_path: Path) -> None:
    (tmp_path / "wish.csv").write_text("seconds,dB\n0,3\n7,3\n")
    files = []
    for words in ([], ["--curve", tmp_path / "wish.csv"]):
        done = run("level", detailed_file, "-o", tmp_path / "out.wav", "--json", "--overwrite", "--target", "-24", *words)
        assert done.returncode == 0, done.stderr
        files += json.loads(done.stdout)["files"]
    plain, wished = files
    assert (
        [plain["after"][name] for name in ("level", "count")]
        == [wished["after"][name] for name in ("level", "count")]
        == [3, 3]
    )
    louder = [b["after"] - a["after"] for a, b in zip(plain["phrases"], wished["phrases"], strict=True)]
    assert louder == pytest.approx([3.0] * 3, abs=0.05)


def test_a_ride_may_have_a_strength_or_none(detailed_file: Path, tmp_path: Path) -> None:
    spreads = []
    kinds = (["--ride", "0"], ["--ride", "50"], ["--ride"], ["--ride", "80"], ["--ride", "100", "--natural-fall", "0"])
    for words in kinds:
        done = run("level", detailed_file, "-o", tmp_path / "out.wav", "--json", "--overwrite", *words)
        assert done.returncode == 0, done.stderr
        (file,) = json.loads(done.stdout)["files"]
        assert list(file["ride"]) == ["points", "phrases"]
        assert all(list(point) == ["at", "gain"] for point in file["ride"]["points"])
        spreads.append(sum(phrase["spread_after"] for phrase in file["ride"]["phrases"]))
    assert spreads[0] >= spreads[1] >= spreads[2] == spreads[3] >= spreads[4]
    pace = run("level", detailed_file, "-o", tmp_path / "out.wav", "--ride", "--pace", "hasty", "--overwrite")
    assert pace.returncode == 2
    assert "calm" in pace.stderr
    assert run("level", detailed_file, "-o", tmp_path / "out.wav", "--ride", "120").returncode == 2
    assert "by a ride of" in run("level", detailed_file, "-o", tmp_path / "over.wav", "--ride").stdout


def test_a_curve_from_elsewhere_comes_on_top_and_what_was_ridden_is_written_beside(detailed_file: Path, tmp_path: Path) -> None:
    fader = tmp_path / "fader.csv"
    fader.write_text("seconds,dB\n0,-6\n7,-6\n")
    low = tmp_path / "low.wav"
    done = run("level", detailed_file, "-o", low, "--strength", 0, "--curve", fader, "--curve-as", "mid", "--json")
    assert done.returncode == 0, done.stderr
    (file,) = json.loads(done.stdout)["files"]
    a, b = (soundfile.read(path)[0] for path in (detailed_file, low))
    assert b == near(a * 10 ** (-6 / 20), abs=2e-6)
    # what was written can be brought in again
    assert file["curve"] == str(tmp_path / "low.ride.mid")
    again = run("level", detailed_file, "-o", tmp_path / "again.wav", "--strength", 0, "--curve", file["curve"])
    assert again.returncode == 0, again.stderr
    assert soundfile.read(tmp_path / "again.wav")[0] == near(b, abs=1e-3)
    ridden = run("level", detailed_file, "-o", tmp_path / "ridden.wav", "--ride", "--curve-as", "csv")
    assert ridden.returncode == 0, ridden.stderr
    assert (tmp_path / "ridden.ride.csv").read_text().startswith("seconds,dB,shape\n")
    assert run("level", detailed_file, "-o", tmp_path / "x.wav", "--curve-as", "csv").returncode == 2
    fader.write_text("no curve at all")
    bad = run("level", detailed_file, "-o", tmp_path / "bad.wav", "--curve", fader)
    assert bad.returncode == 1
    assert "no points" in bad.stderr
    assert not (tmp_path / "bad.wav").exists()


def levelled(source: Path, out: Path, *options: object) -> dict:
    done = run("level", source, "-o", out, "--json", *options)
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)["files"][0]


def test_a_quiet_voice_comes_up_by_its_base(tmp_path: Path) -> None:
    """At -38 LUFS, 20 dB under the target, most up of 9 dB would stop every phrase; counted from the base it stops none."""
    quiet = write_sound(tmp_path / "quiet.wav", uneven_voice((-34.0, -40.0, -37.0, -36.0), tone=-90.0))
    by_itself = levelled(quiet, tmp_path / "a.wav")
    assert 15 < by_itself["base"] < 25
    assert by_itself["after"]["level"] == 4
    none = levelled(quiet, tmp_path / "b.wav", "--base", "none")
    assert (none["base"], none["after"]["level"]) == (0.0, 0)
    assert {phrase["reason"] for phrase in none["phrases"]} == {"most up"}
    given = levelled(quiet, tmp_path / "c.wav", "--base", 12, "--most-up", 3)
    assert given["base"] == 12.0
    assert max(phrase["gain"] for phrase in given["phrases"]) == 15.0
    assert run("level", quiet, "-o", tmp_path / "d.wav", "--base", "lots").returncode == 2


def test_short_peaks_that_hold_a_phrase_back_are_turned_down_when_asked(tmp_path: Path) -> None:
    source = write_sound(tmp_path / "click.wav", with_a_click(0.3))
    options = ("--target", -18, "--most-up", 20)
    held = levelled(source, tmp_path / "held.wav", *options)
    assert held["phrases"][2]["reason"] == "peaks"
    assert held["phrases"][2]["after"] < -20
    told = run("level", source, "-o", tmp_path / "told.wav", *options).stdout
    assert "1 phrase held back by short peaks: --peaks turns them down" in told
    freed = levelled(source, tmp_path / "freed.wav", *options, "--peaks")
    assert freed["phrases"][2]["reason"] == "freed"
    assert freed["phrases"][2]["after"] == pytest.approx(-18, abs=0.15)
    (dip,) = freed["details"]
    assert (dip["kind"], dip["reason"]) == ("knock", "peak")
    assert -9 <= dip["depth"] <= -0.5
    assert json.loads(run("measure", tmp_path / "freed.wav", "--json").stdout)["true_peak"] <= -0.9


def test_phrases_are_judged_with_their_details_down_and_settle_under_a_ride(tmp_path: Path) -> None:
    source = write_sound(tmp_path / "voice.wav", detailed_voice())
    options = ("--target", -20, "--tolerance", 0.3, "--most-up", 20, "--esses", -12, "--ride", 100)
    for name in ("settled", "moved"):
        levels = levelled(source, tmp_path / f"{name}.wav", *options, *(() if name == "settled" else ("--no-settle",)))
        away = max(abs(phrase["after"] + 20) for phrase in levels["phrases"])
        assert away < (0.1 if name == "settled" else 1.0)


def test_what_is_in_doubt_is_left_as_it_is_and_counted(tmp_path: Path) -> None:
    source = write_sound(tmp_path / "doubt.wav", with_a_doubtful_breath())
    sure, doubtful = levelled(source, tmp_path / "out.wav", "--breaths", -8)["details"]
    assert (sure["depth"], sure["reason"]) == (-8.0, "rule")
    assert (doubtful["depth"], doubtful["reason"]) == (0.0, "in doubt")
    told = run("level", source, "-o", tmp_path / "told.wav", "--breaths", -8).stdout
    assert "1 of 2 breaths down (1 in doubt, left as it is)" in told
    marks = run("marks", source).stdout
    assert [("in doubt" in line) for line in marks.splitlines() if "breath " in line] == [False, True]


def test_what_holds_phrases_back_is_told_with_what_frees_them(tmp_path: Path) -> None:
    source = write_sound(tmp_path / "far.wav", uneven_voice((-40.0, -44.0, -42.0, -38.0, -43.0), tone=-58.0))
    options = ("--most-up", 30, "--base", "none", "--noise-limit", -40)
    held = levelled(source, tmp_path / "held.wav", *options)
    assert held["target"] == -18.0
    assert held["held"]["noise limit"] >= 3
    told = run("level", source, "-o", tmp_path / "told.wav", *options).stdout
    assert f"{held['held']['noise limit']} phrases held back by the noise limit" in told
    assert f"--target {held['freeing']:g}, or --target auto" in told
    free = levelled(source, tmp_path / "free.wav", *options, "--target", "auto")
    assert free["target"] == held["freeing"] < -18.0
    assert free["held"] == {}
    assert free["after"]["level"] == 5
    # where nothing holds them back auto is what it is without
    easy = levelled(write_sound(tmp_path / "easy.wav", uneven_voice()), tmp_path / "e.wav", "--most-up", 30, "--target", "auto")
    assert easy["target"] == -18.0
    short = levelled(source, tmp_path / "short.wav", "--most-up", 1, "--base", "none")
    assert short["held"] == {"most up": 5}
    for wrong in ("loud", "nan", "3", "-61"):
        refused = run("level", source, "-o", tmp_path / "no.wav", "--target", wrong)
        assert refused.returncode == 2
        assert "auto, median, or a number from -60 to 0" in refused.stderr
