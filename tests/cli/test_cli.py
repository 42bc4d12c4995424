"""The command line: exactly the promised keys, exit codes 0, 1 and 2, and never a traceback."""

from __future__ import annotations

import json
import os
from pathlib import Path

import numpy as np
import pytest
import soundfile

from nivelus.core.kinds import KINDS
from tests.conftest import detailed_voice, hum, sine, uneven_voice, write_sound
from tests.helpers.cli import run


def test_measure_prints_exactly_its_keys(tmp_path: Path) -> None:
    done = run("measure", write_sound(tmp_path / "a.wav", sine(-20.0, 5)), "--json")
    assert done.returncode == 0
    result = json.loads(done.stdout)
    keys = "duration sample_rate channels integrated loudness_range momentary_max short_term_max true_peak sample_peak rms"
    assert " ".join(result) == keys
    assert result["integrated"] == pytest.approx(-23.0, abs=0.05)
    assert result["true_peak"] == pytest.approx(-20.0, abs=0.1)
    assert (result["duration"], result["sample_rate"], result["channels"]) == (5.0, 48_000, 1)


def test_what_never_passed_a_gate_is_null_not_infinity(tmp_path: Path) -> None:
    done = run("measure", write_sound(tmp_path / "a.wav", sine(-90.0, 1)), "--json")
    assert json.loads(done.stdout)["integrated"] is None


def test_marks_prints_exactly_its_keys(voice_file: Path) -> None:
    result = json.loads(run("marks", voice_file, "--json").stdout)
    assert list(result) == ["room_tone", "phrases", *(kind.plural for kind in KINDS), "cannot_show"]
    assert result["cannot_show"] == ["esses"]
    assert [len(result[kind]) for kind in ("phrases", "breaths", "esses", "knocks", "gaps")] == [4, 0, 0, 0, 5]
    for phrase in result["phrases"]:
        assert list(phrase) == ["start", "end", "loudness", "rms", "peak", "confidence"]
        assert phrase["end"] - phrase["start"] == pytest.approx(1.0, abs=0.1)


def test_marks_tells_of_every_kind(detailed_file: Path) -> None:
    result = json.loads(run("marks", detailed_file, "--json").stdout)
    keys = ["start", "end", "level", "confidence"]
    for kind, more, count in (("breaths", [], 3), ("esses", ["excess"], 4), ("knocks", ["excess"], 1), ("gaps", ["holds"], 4)):
        assert [list(mark) for mark in result[kind]] == [keys + more] * count, kind


def test_marks_of_a_file_that_cannot_show_esses_says_so(tmp_path: Path) -> None:
    done = run("marks", write_sound(tmp_path / "phone.wav", detailed_voice(8_000), 8_000), "--json")
    assert json.loads(done.stdout)["esses"] == []
    assert "cannot show esses" in done.stderr


def test_level_renders_and_tells(voice_file: Path, tmp_path: Path) -> None:
    out = tmp_path / "out.wav"
    done = run("level", voice_file, "-o", out, "--target", -24, "--most-up", 20, "--noise-limit", -20, "--json")
    assert done.returncode == 0, done.stderr
    (file,) = json.loads(done.stdout)["files"]
    assert list(file) == ["input", "output", "target", "base", "held", "phrases", "before", "after"]
    assert file["output"] == str(out)
    for phrase in file["phrases"]:
        assert list(phrase) == ["start", "end", "before", "gain", "after", "reason"]
        assert phrase["after"] == pytest.approx(phrase["before"] + phrase["gain"], abs=1e-3)
        assert phrase["after"] == pytest.approx(-24, abs=1.6)
    assert file["after"]["spread"] < file["before"]["spread"]
    assert soundfile.info(out).frames == soundfile.info(voice_file).frames


def test_strength_0_renders_the_very_samples(voice_file: Path, tmp_path: Path) -> None:
    run("level", voice_file, "-o", tmp_path / "out.wav", "--strength", 0)
    a, b = (soundfile.read(path, dtype="int32")[0] for path in (voice_file, tmp_path / "out.wav"))
    assert (a == b).all()


def test_a_bad_file_is_reported_and_the_others_are_done(voice_file: Path, tmp_path: Path) -> None:
    bad = tmp_path / "notes.wav"
    bad.write_text("not sound")
    second = write_sound(tmp_path / "second.flac", hum(-30, 2))
    folder = tmp_path / "out"
    done = run("level", voice_file, bad, tmp_path / "gone.wav", second, "-o", folder, "--format", "flac", "--json")
    assert done.returncode == 1
    assert "notes.wav" in done.stderr
    assert "gone.wav" in done.stderr
    assert len(json.loads(done.stdout)["files"]) == 2
    assert sorted(p.name for p in folder.iterdir()) == ["second.flac", "uneven voice.flac"]


def test_a_folder_is_levelled_with_its_tree(tmp_path: Path) -> None:
    voices = tmp_path / "voices"
    for name in ("one.wav", "Two.FLAC", "late/one.wav", "late/night/three.wav", ".hidden.wav"):
        (voices / name).parent.mkdir(parents=True, exist_ok=True)
        write_sound(voices / name, hum(-30, 1.5))
    (voices / "notes.txt").write_text("not sound")
    out = voices / "levelled"
    done = run("level", voices, "-o", out)
    assert (done.returncode, done.stderr) == (0, "")
    assert sorted(str(path.relative_to(out)) for path in out.rglob("*.*")) == ["Two.wav", "one.wav"]
    # what lies in the output is none of the input
    done = run("level", voices, "--recursive", "-o", out, "--overwrite", "--json")
    assert (done.returncode, len(json.loads(done.stdout)["files"])) == (0, 4)
    found = sorted(str(path.relative_to(out)) for path in out.rglob("*.*"))
    assert found == ["Two.wav", "late/night/three.wav", "late/one.wav", "one.wav"]


def test_a_folder_without_sound_is_told_as_one(tmp_path: Path) -> None:
    (tmp_path / "inner").mkdir()
    write_sound(tmp_path / "inner" / "one.wav", hum(-30, 1.5))
    done = run("level", tmp_path, "-o", tmp_path / "out")
    assert done.returncode == 1
    assert "holds no sound files; --recursive looks into its folders too." in done.stderr
    assert not (tmp_path / "out").exists()
    several = run("level", tmp_path / "inner", "-o", tmp_path / "inner" / "one.wav")
    assert several.returncode == 2
    assert "need a folder to go to" in several.stderr


def test_two_files_of_one_name_get_two_outputs(tmp_path: Path) -> None:
    for name in ("a", "b"):
        (tmp_path / name).mkdir()
        write_sound(tmp_path / name / "take.wav", hum(-20, 1))
    done = run("level", tmp_path / "a" / "take.wav", tmp_path / "b" / "take.wav", "-o", tmp_path / "out")
    assert done.returncode == 0
    assert sorted(p.name for p in (tmp_path / "out").iterdir()) == ["take-2.wav", "take.wav"]


def test_a_file_is_not_written_over_itself(voice_file: Path) -> None:
    before = voice_file.read_bytes()
    done = run("level", voice_file, "-o", voice_file)
    assert done.returncode == 1
    assert "never written over" in done.stderr
    assert voice_file.read_bytes() == before
    assert run("level", voice_file, "-o", voice_file.parent).returncode == 1
    assert voice_file.read_bytes() == before


@pytest.mark.parametrize(
    "arguments",
    [
        [],
        ["nothing"],
        ["measure"],
        ["level", "a.wav"],
        ["level", "a.wav", "-o", "b.flac", "--bits", 32],
        ["level", "a.wav", "-o", "b.wav", "--strength", 120],
        ["level", "a.wav", "-o", "b.wav", "--target", "nan"],
        ["level", "a.wav", "-o", "b.wav", "--unit", "volume"],
        ["level", "a.wav", "-o", "b.wav", "--breaths", 3],
        ["serve", "--port", 0],
    ],
)
def test_bad_usage_ends_with_2(arguments: list[object]) -> None:
    done = run(*arguments)
    assert done.returncode == 2
    assert done.stderr.startswith("Usage: nivelus")


@pytest.mark.parametrize("command", ["measure", "marks"])
def test_bad_input_ends_with_1_and_a_sentence(command: str, tmp_path: Path) -> None:
    missing = run(command, tmp_path / "gone.wav", "--json")
    assert (missing.returncode, missing.stdout) == (1, "")
    assert "gone.wav” is not there" in missing.stderr
    silent = run(command, write_sound(tmp_path / "silent.wav", np.zeros(48_000)))
    assert silent.returncode == 1
    assert "silent from start to end" in silent.stderr


def test_people_get_lines_instead_of_json(voice_file: Path) -> None:
    assert "LUFS" in run("measure", voice_file).stdout
    assert "4 phrases, 0 breaths, 0 esses, " in (lines := run("marks", voice_file).stdout)
    assert ", 5 gaps, room tone" in lines


def test_serving_beyond_this_machine_needs_a_token(tmp_path: Path) -> None:
    done = run("serve", "--host", "0.0.0.0", "--data", tmp_path)
    assert done.returncode == 1
    assert "NIVELUS_TOKEN" in done.stderr


def test_names_of_files_may_be_anything_and_are_printed_as_text(tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    sound = write_sound(tmp_path / "a.wav", uneven_voice((-20.0,))).read_bytes()
    names = [b"caf\xe9.wav", b"red\x1b[31m\x07.wav", b"plain.wav", b"broken \xff.wav"]
    for name in names:
        (folder / os.fsdecode(name)).write_bytes(b"RIFF" if b"broken" in name else sound)
    done = run("level", folder, "-o", tmp_path / "out")
    # the one that is no sound is told of; the folder's run goes on
    assert (done.returncode, "broken \\udcff.wav" in done.stderr) == (1, True)
    assert {os.fsencode(path.name) for path in (tmp_path / "out").iterdir()} == set(names[:3])
    assert not set(done.stdout + done.stderr) & {chr(code) for code in (*range(9), *range(11, 32), 127)}
    assert "red\\x1b[31m\\x07.wav" in done.stdout
    for name in names[:3]:
        assert json.loads(run("measure", os.fsencode(folder) + b"/" + name, "--json").stdout)["channels"] == 1
    told = json.loads(run("level", folder, "-o", tmp_path / "again", "--json").stdout)["files"]
    assert {os.fsencode(Path(file["input"]).name) for file in told} == set(names[:3])
