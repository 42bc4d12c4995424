"""What the commands have in common: the program, the options that several of them take, and how they print."""

from __future__ import annotations

import gc
import json
import math
import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from nivelus.core.files import is_full

app = typer.Typer(
    help="Nivelus evens out the level of a recorded voice, before any compressor touches it.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)

File = Annotated[Path, typer.Argument(help="A sound file: WAV, BWF, RF64, AIFF, FLAC, Ogg Vorbis or MP3.")]
Longest = Annotated[float, typer.Option(min=1, max=600, help="Divide phrases that last longer at their pauses, seconds.")]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON and nothing else.")]
Data = Annotated[Path | None, typer.Option(help="Folder for sessions and recordings.")]
Port = Annotated[int | None, typer.Option(min=1, max=65535, help="Port to listen on; 8130 if nothing else is set.")]
PLURALS = {"breath": "breaths", "ess": "esses", "knock": "knocks", "gap": "gaps"}


def travel_light() -> None:
    """Let a command on files start in half the time: most of a short run is importing.

    Numba looks for SciPy's BLAS, cffi and YAML at its first use, in case a kernel wants them; ours do not. Collecting
    garbage while modules are loaded only holds it up.
    """
    gc.disable()
    for name in ("scipy.linalg", "cffi", "yaml"):
        sys.modules.setdefault(name, None)  # type: ignore[arg-type]


def why(error: OSError) -> str:
    """What the operating system says, as the end of a sentence."""
    if is_full(error):
        return "the disk is full. Make room and do it again."
    return f"{error.strerror or error}."


def plain(value: Any) -> dict[str, Any]:
    """A frozen dataclass of numbers and words as JSON values, rounded to what is meant by them."""
    out = {}
    for name in value.__dataclass_fields__:
        field = getattr(value, name)
        out[name] = finite(field) if isinstance(field, float) else field
    return out


def finite(value: float) -> float | None:
    """A number as JSON has it; None where it is none."""
    return round(float(value), 4) if math.isfinite(value) else None


def number(value: float | None) -> str:
    """A number as it is printed."""
    return "none" if value is None else f"{value:.1f}"


def time(seconds: float) -> str:
    """A moment as it is printed."""
    return f"{int(seconds // 60)}:{seconds % 60:06.3f}"


def print_json(value: Any) -> None:
    """Print one JSON object."""
    print(json.dumps(value, ensure_ascii=False, indent=1, allow_nan=False))
