"""Levelling files: phrases, details, ride, and a bed that makes room."""

from __future__ import annotations

import math
import signal
import sys
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from nivelus.cli.options import PLURALS, AsJson, Longest, app, finite, plain, print_json, travel_light, why
from nivelus.core.errors import NivelusError
from nivelus.core.files import check_readable, free_bytes, size_in_words, whole_file

if TYPE_CHECKING:
    from nivelus.core.drafts.clip_gain import BaseKind

STOPS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


class Unit(StrEnum):
    """What a phrase is judged by."""

    loudness = "loudness"
    rms = "rms"
    peak = "peak"


class CurveKind(StrEnum):
    """Formats that curves are written in."""

    csv = "csv"
    mid = "mid"


class Format(StrEnum):
    """Formats that are written."""

    wav = "wav"
    flac = "flac"


@app.command()
def level(
    files: Annotated[list[Path], typer.Argument(help="Sound files to level.")],
    output: Annotated[Path, typer.Option("-o", "--output", help="A file name for one file, or a folder.")],
    target: Annotated[float, typer.Option(min=-60, max=0, help="Target in LUFS, dBFS or dBTP, as the unit says.")] = -18.0,
    unit: Annotated[Unit, typer.Option(help="What a phrase is judged by.")] = Unit.loudness,
    tolerance: Annotated[float, typer.Option(min=0, max=12, help="Within this it is level, +- LU or dB.")] = 1.5,
    strength: Annotated[float, typer.Option(min=0, max=100, help="How far towards the target, %.")] = 100.0,
    most_up: Annotated[float, typer.Option(min=0, max=60, help="Most that a phrase goes up, dB.")] = 9.0,
    most_down: Annotated[float, typer.Option(min=0, max=60, help="Most that a phrase goes down, dB.")] = 12.0,
    base: Annotated[
        str, typer.Option(help="How far the whole voice moves, which most up and down count from: auto, none, or dB.")
    ] = "auto",
    ceiling: Annotated[float, typer.Option(min=-40, max=0, help="True peak that is not passed on the way up, dBTP.")] = -1.0,
    noise_limit: Annotated[
        float, typer.Option(min=-100, max=0, help="Room tone that is not passed on the way up, dBFS.")
    ] = -40.0,
    breaths: Annotated[float | None, typer.Option(min=-60, max=0, help="Turn breaths down by so much, dB.")] = None,
    esses: Annotated[float | None, typer.Option(min=-60, max=0, help="Turn down what stands out of esses, dB at most.")] = None,
    knocks: Annotated[float | None, typer.Option(min=-60, max=0, help="Turn knocks down by so much, dB.")] = None,
    gaps: Annotated[float | None, typer.Option(min=-60, max=0, help="Turn gaps down by so much, dB.")] = None,
    peaks: Annotated[
        bool, typer.Option("--peaks", help="Turn short peaks down that keep a phrase under the ceiling, 9 dB at most.")
    ] = False,
    settled: Annotated[bool, typer.Option("--settle/--no-settle", help="Keep phrases level when the ride moves them.")] = True,
    longest: Longest = 8.0,
    ride: Annotated[
        float | None,
        typer.Option(min=0, max=100, help="Even out the inside of the phrases as well, %; 100 if no number is given."),
    ] = None,
    curve: Annotated[
        Path | None, typer.Option(help="Gain drawn elsewhere, as CSV (seconds,dB) or MIDI file (volume); comes on top.")
    ] = None,
    curve_as: Annotated[CurveKind | None, typer.Option(help="Write the ride beside the output, as CSV or MIDI file.")] = None,
    format: Annotated[Format | None, typer.Option(help="Format to write; by the output's name if not given.")] = None,
    bits: Annotated[int, typer.Option(help="16, 24, or 32 (float, WAV only).")] = 24,
    overwrite: Annotated[
        bool, typer.Option("--overwrite", help="Write over files that are there; never over an input.")
    ] = False,
    as_json: AsJson = False,
) -> None:
    """Even out the phrases of files, turn their breaths, esses, knocks and gaps down, and render them."""
    kind = format.value if format else ("flac" if output.suffix.lower() == ".flac" else "wav")
    if bits not in (16, 24, 32) or (kind == "flac" and bits == 32):
        raise typer.BadParameter("WAV takes 16, 24 or 32 bits, FLAC 16 or 24.", param_hint="--bits")
    is_file = len(files) == 1 and not output.is_dir() and output.suffix.lower() in (".wav", ".flac", ".bwf")
    if len(files) > 1 and output.is_file():
        raise typer.BadParameter("Several files need a folder to go to.", param_hint="-o")
    if curve_as and ride is None and curve is None:
        raise typer.BadParameter("There is a curve to write only with --ride or --curve.", param_hint="--curve-as")
    from nivelus.core.deliver.outputs import check_outputs, plan_outputs

    planned = plan_outputs(files, output, is_file, kind, curve_as.value if curve_as else None)
    check_outputs(planned, [*files, *([curve] if curve else [])], overwrite)
    _stop_tidily()
    travel_light()
    from nivelus.core.deliver.curve_formats import read_curve
    from nivelus.core.deliver.level import level_file
    from nivelus.core.drafts.clip_gain import ClipGainRule
    from nivelus.core.drafts.dips import DipRule
    from nivelus.core.drafts.ride import RideRule
    from nivelus.core.gain.drawn import EMPTY

    given = {"breath": breaths, "ess": esses, "knock": knocks, "gap": gaps}
    dips = {kind: DipRule(depth, 0.0, -60.0) for kind, depth in given.items() if depth is not None}
    base_kind, base_db = _base(base)
    rule = ClipGainRule(target, tolerance, strength / 100, most_up, most_down, ceiling, noise_limit, base_db)
    drawn = read_curve(curve) if curve else EMPTY
    riding = None if ride is None else RideRule(strength=ride / 100, noise_limit=noise_limit)
    done: list[dict[str, Any]] = []
    failed = 0
    for plan in planned:
        file, goal = plan.source, plan.sound
        try:
            check_readable(file)
            goal.parent.mkdir(parents=True, exist_ok=True)
            _warn_of_room(file, goal)
            result = level_file(
                *(file, goal, rule, unit.value, kind, bits),
                dips=dips,
                ride=riding,
                drawn=drawn,
                replace_file=overwrite,
                base_kind=base_kind,
                peaks=peaks,
                settled=settled,
                longest=longest,
            )
            if plan.curve:
                _write_curve(result.curve, plan.curve, overwrite)
        except NivelusError as error:
            print(error.sentence, file=sys.stderr)
            failed += 1
            continue
        except OSError as error:
            print(f"“{file}” could not be levelled: {why(error)}", file=sys.stderr)
            failed += 1
            continue
        done.append(
            {
                "input": str(file),
                "output": str(goal),
                "base": finite(result.base),
                "phrases": [plain(phrase) for phrase in result.phrases],
                **({"details": [plain(detail) for detail in result.details]} if dips or peaks else {}),
                **({"ride": _ride(result.ride)} if result.ride else {}),
                **({"curve": str(plan.curve)} if plan.curve else {}),
                "before": plain(result.before) | plain(result.evenness_before),
                "after": plain(result.after) | plain(result.evenness_after),
            }
        )
        if not as_json:
            before, after = result.evenness_before, result.evenness_after
            print(
                f"{file} -> {goal}: level {before.level} -> {after.level} of {after.count} phrases, "
                f"spread {before.spread:.1f} -> {after.spread:.1f} {'LU' if unit is Unit.loudness else 'dB'}"
                + (f", base {result.base:+.1f} dB" if abs(result.base) >= 0.05 else "")
                + (f", {result.held_by_peaks} held by short peaks (--peaks)" if result.held_by_peaks else "")
                + "".join(_turned_down(PLURALS[kind], [d for d in result.details if d.kind == kind]) for kind in dips)
                + (_ridden(result.ride) if result.ride else "")
            )
    if as_json:
        print_json({"files": done})
    if failed:
        raise typer.Exit(1)


def _base(given: str) -> tuple[BaseKind, float]:
    """What ``--base`` means: its kind, and dB where it is a number."""
    if given == "auto":
        return "auto", 0.0
    if given == "none":
        return "none", 0.0
    try:
        value = float(given)
    except ValueError:
        value = math.nan
    if not -60 <= value <= 60:
        raise typer.BadParameter("Say auto, none, or a number of dB from -60 to 60.", param_hint="--base")
    return "hand", value


def _stop_tidily() -> None:
    """Let a signal that ends the program unwind it, so that nothing half-written is left."""

    def stop(number: int, _: Any) -> None:
        for name in STOPS:
            signal.signal(name, signal.SIG_IGN)
        print("Stopped. What was not finished is not there.", file=sys.stderr)
        sys.exit(128 + number)

    for name in STOPS:
        signal.signal(name, stop)


def _warn_of_room(source: Path, goal: Path) -> None:
    """Say when there is less room than twice what is likely to be written."""
    free = free_bytes(goal.parent)
    if free < 2 * source.stat().st_size:
        print(f"The disk is nearly full: {size_in_words(free)} are left for “{goal}”.", file=sys.stderr)


def _write_curve(curve: Any, path: Path, replace: bool) -> None:
    """Write a curve beside a rendered file; whole or not at all."""
    from nivelus.core.deliver.curve_formats import format_of

    data = format_of(path).write(curve)
    with whole_file(path, replace) as part:
        part.write_bytes(data)


def _ride(draft: Any) -> dict[str, Any]:
    """A ride as JSON values: its points, and what it does to each phrase."""
    points = zip(draft.curve.at.tolist(), draft.curve.db.tolist(), strict=True)
    return {
        "points": [{"at": round(at, 3), "gain": round(gain, 2)} for at, gain in points],
        "phrases": [plain(phrase) for phrase in draft.phrases],
    }


def _ridden(draft: Any) -> str:
    before, after = (
        sum(getattr(phrase, name) for phrase in draft.phrases) / max(len(draft.phrases), 1)
        for name in ("spread_before", "spread_after")
    )
    return f", inside phrases {before:.1f} -> {after:.1f} LU by a ride of {len(draft.curve)} points"


def _turned_down(name: str, details: list[Any]) -> str:
    return f", {sum(d.depth < 0 for d in details)} of {len(details)} {name} down"
