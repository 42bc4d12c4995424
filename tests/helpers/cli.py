"""The command line as a person runs it."""

from __future__ import annotations

import subprocess
import sys


def run(*arguments: object) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "nivelus.cli", *(a if isinstance(a, bytes) else str(a) for a in arguments)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert "Traceback" not in done.stderr
    return done
