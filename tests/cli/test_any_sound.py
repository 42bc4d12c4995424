"""Memos and videos on the command line: measured, marked and levelled like any other file."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import soundfile

from tests.conftest import RATE, uneven_voice, write_sound
from tests.helpers.cli import run
from tests.helpers.media import encoded, ffmpeg


@pytest.fixture
def voice(tmp_path: Path) -> Path:
    return write_sound(tmp_path / "voice.wav", uneven_voice())


def test_a_memo_is_levelled_like_its_recording(voice: Path, tmp_path: Path) -> None:
    memo = encoded(voice, tmp_path / "memo.m4a", "-b:a", "256k")
    levels = []
    for source in (voice, memo):
        done = run("level", source, "-o", tmp_path / "out.wav", "--overwrite", "--json")
        assert done.returncode == 0, done.stderr
        (file,) = json.loads(done.stdout)["files"]
        assert file["input"] == str(source)
        levels.append([phrase["after"] for phrase in file["phrases"]])
    assert np.abs(np.array(levels[0]) - levels[1]).max() < 0.2
    done = run("measure", memo, "--json")
    assert json.loads(done.stdout)["duration"] == pytest.approx(len(uneven_voice()) / RATE, abs=0.03)
    assert len(json.loads(run("marks", memo, "--json").stdout)["phrases"]) == 4
    bed = encoded(write_sound(tmp_path / "bed.wav", np.tile(uneven_voice((-30.0,)), 3)), tmp_path / "bed.mka")
    done = run("level", memo, "-o", tmp_path / "out.wav", "--bed", bed, "--mix", tmp_path / "mix.wav", "--overwrite")
    assert done.returncode == 0, done.stderr
    assert soundfile.info(tmp_path / "mix.wav").duration > 7


def test_the_sound_track_of_a_video_is_the_usual_one_unless_it_is_named(voice: Path, tmp_path: Path) -> None:
    film = tmp_path / "film.mkv"
    other = write_sound(tmp_path / "other.wav", uneven_voice((-20.0,)))
    ffmpeg("-i", other, "-i", voice, "-map", "0:a", "-map", "1:a", "-c:a", "flac", film)
    said = []
    for words in ([], ["--sound-track", "2"], ["--sound-track", "3"]):
        done = run("marks", film, "--json", *words)
        # a voice of hums has no esses, which is said as well
        lines = [line for line in done.stderr.splitlines() if "cannot show esses" not in line]
        said.append((done.returncode, "\n".join(lines), len(json.loads(done.stdout)["phrases"]) if not done.returncode else 0))
    assert said[0] == (0, "“film.mkv” has 2 sound tracks. This one is read: 1 · mono, flac.", 1)
    assert said[1] == (0, "", 4)
    assert said[2][0] == 1
    assert "has no sound in it, or not the sound track that was asked for" in said[2][1]
    done = run("level", film, "-o", tmp_path / "out.flac", "--sound-track", "2")
    assert done.returncode == 0, done.stderr
    assert soundfile.info(tmp_path / "out.flac").duration == pytest.approx(len(uneven_voice()) / RATE, abs=0.01)


def test_one_channel_of_many_is_read_by_itself(tmp_path: Path) -> None:
    one, two = uneven_voice(), uneven_voice((-20.0,))
    two = np.pad(two, (0, len(one) - len(two)))
    source = write_sound(tmp_path / "A001.wav", np.column_stack([0 * one, one, two]), subtype="PCM_24")
    done = run("level", source, "-o", tmp_path / "out.wav")
    assert done.returncode == 1
    assert "“A001.wav” has 3 channels; a voice is mono or stereo. Read one of them with --channel." in done.stderr
    for number, count in ((2, 4), (3, 1)):
        done = run("marks", source, "--channel", number, "--json")
        assert len(json.loads(done.stdout)["phrases"]) == count
    out = tmp_path / "out.wav"
    assert run("level", source, "-o", out, "--channel", 2, "--strength", 0).returncode == 0
    assert np.array_equal(soundfile.read(out)[0], soundfile.read(source)[0][:, 1])
    assert "“A001.wav” has 3 channels; there is no channel 4." in run("measure", source, "--channel", 4).stderr
    stereo = write_sound(tmp_path / "two.wav", np.column_stack([one, two]))
    assert json.loads(run("measure", stereo, "--channel", 1, "--json").stdout)["channels"] == 1
    film = encoded(source, tmp_path / "film.mka", "-c:a", "flac")
    assert len(json.loads(run("marks", film, "--channel", 2, "--json").stdout)["phrases"]) == 4


def test_a_folder_of_anything_is_levelled(voice: Path, tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    for name in ("a.m4a", "b.mkv", "c.opus"):
        encoded(voice, folder / name)
    (folder / "d.mp4").write_bytes(b"no film")
    done = run("level", folder, "-o", tmp_path / "out")
    assert done.returncode == 1
    assert "“d.mp4” is not a sound file" in done.stderr
    assert sorted(path.name for path in (tmp_path / "out").iterdir()) == ["a.wav", "b.wav", "c.wav"]


def test_one_who_stops_it_leaves_no_decoded_copy(voice: Path, tmp_path: Path) -> None:
    memo = encoded(voice, tmp_path / "memo.m4a", "-af", "aloop=loop=20:size=400000")
    passing = tmp_path / "passing"
    passing.mkdir()
    command = [sys.executable, "-m", "nivelus.cli", "level", str(memo), "-o", str(tmp_path / "out.wav")]
    process = subprocess.Popen(command, env={**os.environ, "TMPDIR": str(passing)}, stderr=subprocess.DEVNULL)
    while process.poll() is None and not list(passing.iterdir()):
        time.sleep(0.01)
    assert list(passing.iterdir())
    process.send_signal(signal.SIGINT)
    assert process.wait(timeout=20) == 130
    assert list(passing.iterdir()) == []
    assert not (tmp_path / "out.wav").exists()
