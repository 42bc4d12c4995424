"""The command line never writes over what it did not make: not an input, not a file that only bears the same name."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from pathlib import Path

import pytest

from nivelus.core.deliver.outputs import Output, Source, check_outputs, plan_outputs
from nivelus.core.errors import Taken
from tests.conftest import hum, write_sound
from tests.helpers.cli import run


def digests(folder: Path) -> dict[str, str]:
    return {path.name: hashlib.sha256(path.read_bytes()).hexdigest() for path in sorted(folder.iterdir()) if path.is_file()}


@pytest.fixture
def takes(tmp_path: Path) -> Path:
    """A folder with the same take in two formats, and one more."""
    folder = tmp_path / "takes"
    folder.mkdir()
    write_sound(folder / "a.wav", hum(-20, 1.5))
    write_sound(folder / "a.flac", hum(-30, 1.5))
    write_sound(folder / "t.wav", hum(-25, 1.5))
    write_sound(folder / "t.flac", hum(-35, 1.5))
    return folder


def test_an_original_beside_an_input_is_left_alone(takes: Path) -> None:
    before = digests(takes)
    for files in (("a.flac", "a.wav"), ("a.wav", "a.flac"), ("t.flac",)):
        done = run("level", *(takes / name for name in files), "-o", takes)
        assert done.returncode == 1
        assert " levelled.wav” is free" in done.stderr
        assert "Nothing was written." in done.stderr
        assert digests(takes) == before


def test_nothing_is_measured_before_all_outputs_are_checked(takes: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    out.mkdir()
    (out / "t.wav").write_text("of somebody")
    done = run("level", takes / "a.wav", takes / "t.wav", "-o", out)
    assert done.returncode == 1
    assert [path.name for path in out.iterdir()] == ["t.wav"]
    assert run("level", takes / "a.wav", takes / "t.wav", "-o", out, "--overwrite").returncode == 0
    assert sorted(path.name for path in out.iterdir()) == ["a.wav", "t.wav"]
    assert (out / "t.wav").stat().st_size > 1000


DISGUISES: dict[str, Callable[[Path, Path], Path]] = {
    "itself": lambda source, folder: source,
    "a symbolic link": lambda source, folder: _link(source, folder / "link.wav", os.symlink),
    "a hard link": lambda source, folder: _link(source, folder / "hard.wav", os.link),
    "a relative way": lambda source, folder: source.parent / ".." / source.parent.name / source.name,
    "a folder by a link": lambda source, folder: _link(source.parent, folder / "other", os.symlink) / source.name,
}


def _link(source: Path, target: Path, way: Callable[[Path, Path], None]) -> Path:
    way(source, target)
    return target


@pytest.mark.parametrize("disguise", DISGUISES)
def test_an_input_is_never_written_over_whatever_it_is_called(takes: Path, tmp_path: Path, disguise: str) -> None:
    before = digests(takes)
    out = DISGUISES[disguise](takes / "a.wav", tmp_path)
    done = run("level", takes / "a.wav", "-o", out, "--overwrite")
    assert done.returncode == 1
    assert "never written over" in done.stderr
    assert digests(takes) == before


def test_a_curve_that_is_read_is_not_written_over(takes: Path, tmp_path: Path) -> None:
    curve = tmp_path / "out.ride.csv"
    curve.write_text("0,-6\n1,-3\n")
    for more in ((), ("--overwrite",)):
        done = run("level", takes / "a.wav", "-o", tmp_path / "out.wav", "--curve", curve, "--curve-as", "csv", *more)
        assert done.returncode == 1
        assert "out.ride.csv” is read from in this run" in done.stderr
    assert curve.read_text() == "0,-6\n1,-3\n"
    assert not (tmp_path / "out.wav").exists()


def test_a_file_that_appears_meanwhile_is_not_written_over(tmp_path: Path) -> None:
    from nivelus.core.files import whole_file

    goal = tmp_path / "a.wav"
    with pytest.raises(Taken, match="appeared meanwhile"), whole_file(goal, replace=False) as part:
        part.write_text("ours")
        goal.write_text("theirs")
    assert goal.read_text() == "theirs"
    assert [path.name for path in tmp_path.iterdir()] == ["a.wav"]


def test_names_that_differ_by_capitals_only_do_not_meet(tmp_path: Path) -> None:
    """Some file systems take them for one."""
    planned = plan_outputs([Source(Path(p)) for p in ("x/Take.wav", "y/take.wav", "z/TAKE.wav")], tmp_path, False, "wav", "csv")
    names = [output.sound.name for output in planned]
    assert names == ["Take.wav", "take-2.wav", "TAKE-3.wav"]
    assert [output.curve.name for output in planned if output.curve] == ["Take.ride.csv", "take-2.ride.csv", "TAKE-3.ride.csv"]


def test_every_file_that_is_in_the_way_is_named(tmp_path: Path) -> None:
    for name in ("a.wav", "b.wav", "a levelled.wav"):
        (tmp_path / name).write_text("x")
    (tmp_path / "c.wav").mkdir()
    planned = [Output(Path("q.wav"), tmp_path / name) for name in ("a.wav", "b.wav", "c.wav", "d.wav")]
    with pytest.raises(Taken) as caught:
        check_outputs(planned, [], overwrite=False)
    said = caught.value.sentence
    assert all(f"{name}”" in said for name in ("a.wav", "b.wav", "c.wav", "a levelled 2.wav"))
    assert "/d.wav" not in said
    with pytest.raises(Taken, match="is no file"):
        check_outputs(planned, [], overwrite=True)


def test_what_is_no_file_is_told_as_what_it_is_at_once(takes: Path, tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe.csv")
    os.mkfifo(tmp_path / "pipe.wav")
    os.symlink(tmp_path / "loop.wav", tmp_path / "loop.wav")
    os.symlink(tmp_path / "nowhere", tmp_path / "dangling.wav")
    for name, words in (
        ("pipe.wav", "is a pipe"),
        ("loop.wav", "leads in a circle"),
        ("dangling.wav", "link to a file that is not there"),
        (".", "is a folder"),
        ("/dev/null", "is a device"),
        ("gone.wav", "is not there"),
    ):
        done = run("measure", tmp_path / name if not name.startswith("/") else name)
        assert (done.returncode, words in done.stderr) == (1, True), done.stderr
    out = tmp_path / "out.wav"
    done = run("level", takes / "a.wav", "-o", out, "--curve", tmp_path / "pipe.csv")
    assert "is a pipe" in done.stderr
    os.symlink("/dev/zero", tmp_path / "zero.csv")
    assert "is a device" in run("level", takes / "a.wav", "-o", out, "--curve", tmp_path / "zero.csv").stderr
    assert not out.exists()
