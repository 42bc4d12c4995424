"""The wheel: what is built here runs where this checkout is not."""

from __future__ import annotations

import os
import re
import subprocess
from email.parser import Parser
from pathlib import Path
from zipfile import ZipFile

import soundfile

from tests.conftest import uneven_voice, write_sound
from tests.helpers.program import Program

ROOT = Path(__file__).parents[2]
UV = ROOT / ".build" / "uv" / "bin" / "uv"


def run(folder: Path, *command: str | Path) -> str:
    """Run a command outside the checkout, with nothing of it in the environment."""
    environment = {name: value for name, value in os.environ.items() if not name.startswith("PYTHON") and name != "VIRTUAL_ENV"}
    done = subprocess.run([str(part) for part in command], cwd=folder, env=environment, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    return done.stdout


def test_the_wheel_serves_its_page_and_levels_a_file_in_an_empty_environment(tmp_path: Path) -> None:
    run(tmp_path, UV, "build", "-q", "--wheel", "-o", tmp_path, ROOT)
    (wheel,) = tmp_path.glob("*.whl")
    with ZipFile(wheel) as parts:
        (metadata,) = (name for name in parts.namelist() if name.endswith("METADATA"))
        needed = Parser().parsestr(parts.read(metadata).decode()).get_all("Requires-Dist") or []
    # who installs it beside other things is not bound to the versions that were in use here
    assert [line for line in needed if "==" in line.split(";")[0]] == []
    python = tmp_path / "env" / "bin" / "python"
    run(tmp_path, UV, "venv", "-q", "--python", "3.11", tmp_path / "env")
    run(tmp_path, UV, "pip", "install", "-q", "--python", python, "--constraint", ROOT / "requirements.txt", wheel)
    where = run(tmp_path, python, "-c", "import nivelus; print(nivelus.__file__)")
    assert Path(where.strip()).is_relative_to(tmp_path)

    voice = write_sound(tmp_path / "voice.wav", uneven_voice())
    run(tmp_path, python.with_name("nivelus"), "level", voice, "-o", tmp_path / "level.wav")
    assert soundfile.info(tmp_path / "level.wav").frames == soundfile.info(voice).frames

    program = Program(tmp_path / "data", "--no-demo", python=python)
    try:
        page = program.get_bytes("/").decode()
        assert '<div id="root"' in page
        scripts = re.findall(r'(?:src|href)="(/assets/[^"]+)"', page)
        assert any(name.endswith(".js") for name in scripts)
        for name in scripts:
            assert program.get_bytes(name)
        assert program.get("/api/sessions")["items"] == []
    finally:
        program.stop()
