"""What the commands have in common: the program, the options that several of them take, and how they print."""

from __future__ import annotations

import gc
import json
import math
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import click

from nivelus.core.files import is_full

PATH = click.Path(path_type=Path)
SETTINGS = {"show_default": True, "max_content_width": 100}


class _InOrder(click.Group):
    """Commands in the order of a job rather than of the alphabet."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self.commands)


class Number(click.FloatRange):
    """A number in a range; what is not a number is in none, which comparing it does not tell."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        number = float(super().convert(value, param, ctx))
        if math.isnan(number):
            self.fail(f"{value} is not a number.", param, ctx)
        return number


@click.group(cls=_InOrder, context_settings=SETTINGS)
def app() -> None:
    """Nivelus evens out the level of a recorded voice, before any compressor touches it."""


Option = Callable[[Callable[..., Any]], Callable[..., Any]]

sound_file = click.argument("file", type=PATH)
sound_track = click.option(
    "--sound-track",
    type=click.IntRange(min=1),
    metavar="NUMBER",
    help="Which sound track of a video is read; the one that players take unless said.",
)
channel = click.option(
    "--channel",
    type=click.IntRange(min=1),
    metavar="NUMBER",
    help="Read one channel of a file by itself, such as that of a field recorder.",
)
as_json = click.option("--json", "as_json", is_flag=True, help="Print JSON and nothing else.")
data_folder = click.option("--data", type=PATH, help="Folder for sessions and recordings.")


def number_from(given: str, least: float, most: float, refusal: str, option: str) -> float:
    """A number where a word could stand as well; refused where it is none from ``least`` to ``most``."""
    try:
        value = float(given)
    except ValueError:
        value = math.nan
    if not least <= value <= most:
        raise click.BadParameter(refusal, param_hint=option)
    return value


@contextmanager
def as_sound(path: Path, sound_track: int | None, channel: int | None = None) -> Iterator[Path]:
    """A file that is read, or a copy of what is asked for of it; what was chosen of it is told on stderr.

    Parameters
    ----------
    path : the file
    sound_track : the number of its sound track, from 1; the usual one if not given
    channel : the number of the channel that is read by itself, from 1; all of them if not given

    Raises
    ------
    FileError, SoundError
        If there is no such sound.
    """
    from nivelus.core.files import passing_folder
    from nivelus.core.sound.channels import take_out
    from nivelus.core.sound.decoding import as_read
    from nivelus.core.sound.refusals import MAX_CHANNELS, MOST_CHANNELS

    wanted = None if sound_track is None else sound_track - 1
    most = MAX_CHANNELS if channel is None else MOST_CHANNELS
    with as_read(path, wanted, lambda told: print(told, file=sys.stderr), most) as sound:
        if channel is None:
            yield sound
            return
        with passing_folder() as folder:
            take_out(sound, channel, folder / path.name)
            yield folder / path.name


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
