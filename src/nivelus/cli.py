"""The command line: the same core without the interface.

Exit code 0 when all went well, 1 for bad input, 2 for bad usage. With ``--json`` standard output holds one JSON object
and nothing else. What is heavy is imported where it is used, so that every command starts at once.
"""

from __future__ import annotations

import gc
import json
import math
import signal
import sys
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from nivelus.core.errors import NivelusError
from nivelus.core.files import check_readable, free_bytes, is_full, size_in_words, whole_file

if TYPE_CHECKING:
    from nivelus.core.drafts.clip_gain import BaseKind

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


STOPS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
PLURALS = {"breath": "breaths", "ess": "esses", "knock": "knocks", "gap": "gaps"}


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
def measure(file: File, as_json: AsJson = False) -> None:
    """Measure the loudness and peaks of a file."""
    _travel_light()
    from nivelus.core.measure.grid import measure_file
    from nivelus.core.measure.loudness import figures

    _, grid, _ = measure_file(file)
    result = {
        "duration": grid.duration,
        "sample_rate": grid.sample_rate,
        "channels": grid.channels,
        **_plain(figures(grid)),
    }
    if as_json:
        _print_json(result)
        return
    units = {"integrated": "LUFS", "loudness_range": "LU", "momentary_max": "LUFS", "short_term_max": "LUFS"}
    units |= {"true_peak": "dBTP", "sample_peak": "dBFS", "rms": "dBFS", "duration": "s", "sample_rate": "Hz"}
    for name, value in result.items():
        shown = value if isinstance(value, int) else _number(value)
        print(f"{name.replace('_', ' '):16} {shown:>10} {units.get(name, '')}".rstrip())


@app.command()
def marks(file: File, longest: Longest = 8.0, as_json: AsJson = False) -> None:
    """Find the phrases, breaths, esses, knocks and gaps of a file."""
    _travel_light()
    from nivelus.core.marks.details import find_marks
    from nivelus.core.marks.mark import KINDS
    from nivelus.core.measure.grid import measure_file
    from nivelus.core.measure.spans import span_levels

    _, grid, _ = measure_file(file)
    found = find_marks(grid, longest)
    phrases = []
    for mark in found.phrases.phrases:
        levels = span_levels(grid, mark.start, mark.end)
        phrases.append(
            {
                "start": round(mark.start, 3),
                "end": round(mark.end, 3),
                "loudness": _finite(levels.loudness),
                "rms": _finite(levels.rms),
                "peak": _finite(levels.sample_peak),
                "confidence": round(mark.confidence, 3),
            }
        )
    room = found.phrases.room_tone
    details = {PLURALS[kind]: [_mark(mark) for mark in found.of(kind)] for kind in KINDS}
    if not found.shows_esses:
        print(f"“{file.name}” cannot show esses: it holds nothing as high as they are.", file=sys.stderr)
    if as_json:
        cannot = {} if found.shows_esses else {"cannot_show": ["esses"]}
        _print_json({"room_tone": _finite(room), "phrases": phrases, **details, **cannot})
        return
    counts = ", ".join(f"{len(marks)} {name}" for name, marks in details.items())
    print(f"{len(phrases)} phrases, {counts}, room tone {_number(room)} dBFS")
    lines = [
        (p.start, p.end, "phrase", f"{_number(about['loudness']):>7} LUFS")
        for p, about in zip(found.phrases.phrases, phrases, strict=True)
    ]
    for detail in found.details:
        shown = f"{detail.level:7.1f} dBFS"
        shown += f"  stands out by {detail.excess:+.1f} dB" if detail.excess is not None else ""
        lines.append((detail.start, detail.end, detail.kind, shown + "".join(f"  {what}" for what in detail.holds)))
    for start, end, kind, shown in sorted(lines):
        print(f"{_time(start)} - {_time(end)}  {kind:7} {shown}")


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
    _travel_light()
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
            print(f"“{file}” could not be levelled: {_why(error)}", file=sys.stderr)
            failed += 1
            continue
        done.append(
            {
                "input": str(file),
                "output": str(goal),
                "base": _finite(result.base),
                "phrases": [_plain(phrase) for phrase in result.phrases],
                **({"details": [_plain(detail) for detail in result.details]} if dips or peaks else {}),
                **({"ride": _ride(result.ride)} if result.ride else {}),
                **({"curve": str(plan.curve)} if plan.curve else {}),
                "before": _plain(result.before) | _plain(result.evenness_before),
                "after": _plain(result.after) | _plain(result.evenness_after),
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
        _print_json({"files": done})
    if failed:
        raise typer.Exit(1)


@app.command()
def serve(
    port: Port = None,
    data: Data = None,
    host: Annotated[str | None, typer.Option(help="Address to listen on; any but this machine needs NIVELUS_TOKEN.")] = None,
    demo: Annotated[bool, typer.Option(help="Put the demo sessions into a new data folder.")] = True,
) -> None:
    """Start the program on your own sessions."""
    _serve(port, data, host, demo)


@app.command()
def demo(port: Port = None, data: Data = None) -> None:
    """Start the program on the demo sessions: an audio guide, a feature for two voices, and a song."""
    _serve(port, data or Path.home() / ".local" / "share" / "nivelus-demo", "127.0.0.1", True)


@app.command()
def check(
    data: Data = None,
    repair: Annotated[bool, typer.Option("--repair", help="Repair what can be repaired; Nivelus must not be running.")] = False,
) -> None:
    """Look over the database, its copies, the recordings, and what was measured of them."""
    from nivelus.services import checking
    from nivelus.settings import Settings
    from nivelus.store.lock import DataLock

    settings = Settings.read(**({"data": data} if data else {}))
    if repair:
        lock = DataLock(settings.data, patience=0.5)
        for sentence in checking.repair(settings):
            print(sentence)
        lock.release()
    faults = 0
    for finding in checking.check(settings):
        faults += not finding.good
        print(("" if finding.good else "! ") + finding.sentence)
    if faults:
        raise typer.Exit(1)


@app.command(hidden=True)
def schema() -> None:
    """Print the OpenAPI document, from which the front end's types are made."""
    import tempfile

    from nivelus.settings import Settings
    from nivelus.web.app import create_app

    with tempfile.TemporaryDirectory() as folder:
        _print_json(create_app(Settings(data=Path(folder))).api_doc)


@app.command(hidden=True)
def warm() -> None:
    """Compile the inner loops once, so that no later start has to wait for it."""
    from nivelus.core.deliver.warm import warm_kernels

    warm_kernels()


def main() -> None:
    """Run the command line; bad input ends with a sentence, never with a traceback."""
    try:
        app(args=_with_ride_strength(sys.argv[1:]))
    except NivelusError as error:
        print(error.sentence, file=sys.stderr)
        sys.exit(1)
    except OSError as error:
        print(f"{error.filename or 'A file'}: {_why(error)}", file=sys.stderr)
        sys.exit(1)


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


def _with_ride_strength(arguments: list[str]) -> list[str]:
    """``--ride`` may stand alone, which options with a value may not: the strength is put in where it is left out."""
    out = []
    for argument, following in zip(arguments, [*arguments[1:], ""], strict=True):
        alone = argument == "--ride" and not following.replace(".", "", 1).isdigit()
        out.append("--ride=100" if alone else argument)
    return out


def _serve(port: int | None, data: Path | None, host: str | None, with_demo: bool) -> None:
    from nivelus.settings import Settings
    from nivelus.web.serve import serve as run

    given = {"port": port, "host": host, "data": data}
    settings = Settings.read(**{name: value for name, value in given.items() if value is not None})
    # recordings without a database are someone's work, which the demo would only hide
    is_new = not any((settings.data / name).exists() for name in ("nivelus.sqlite", "vault", "backups"))

    def prepare(bench: Any) -> None:
        if with_demo and is_new:
            from nivelus.demo.build import build_demo

            print("Building the demo sessions.", flush=True)
            build_demo(bench)

    run(settings, lambda sentence: print(sentence, flush=True), prepare)


def _travel_light() -> None:
    """Let a command on files start in half the time: most of a short run is importing.

    Numba looks for SciPy's BLAS, cffi and YAML at its first use, in case a kernel wants them; ours do not. Collecting
    garbage while modules are loaded only holds it up.
    """
    gc.disable()
    for name in ("scipy.linalg", "cffi", "yaml"):
        sys.modules.setdefault(name, None)  # type: ignore[arg-type]


def _stop_tidily() -> None:
    """Let a signal that ends the program unwind it, so that nothing half-written is left."""

    def stop(number: int, _: Any) -> None:
        for name in STOPS:
            signal.signal(name, signal.SIG_IGN)
        print("Stopped. What was not finished is not there.", file=sys.stderr)
        sys.exit(128 + number)

    for name in STOPS:
        signal.signal(name, stop)


def _why(error: OSError) -> str:
    """What the operating system says, as the end of a sentence."""
    if is_full(error):
        return "the disk is full. Make room and do it again."
    return f"{error.strerror or error}."


def _warn_of_room(source: Path, goal: Path) -> None:
    """Say when there is less room than twice what is likely to be written."""
    free = free_bytes(goal.parent)
    if free < 2 * source.stat().st_size:
        print(f"The disk is nearly full: {size_in_words(free)} are left for “{goal}”.", file=sys.stderr)


def _plain(value: Any) -> dict[str, Any]:
    """A frozen dataclass of numbers and words as JSON values, rounded to what is meant by them."""
    out = {}
    for name in value.__dataclass_fields__:
        field = getattr(value, name)
        out[name] = _finite(field) if isinstance(field, float) else field
    return out


def _mark(mark: Any) -> dict[str, Any]:
    """A mark as JSON values: its kind is said by the list that it is in."""
    out: dict[str, Any] = {
        "start": round(mark.start, 3),
        "end": round(mark.end, 3),
        "level": _finite(mark.level),
        "confidence": round(mark.confidence, 3),
    }
    if mark.kind in ("ess", "knock"):
        out["excess"] = None if mark.excess is None else _finite(mark.excess)
    if mark.kind == "gap":
        out["holds"] = list(mark.holds)
    return out


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
        "phrases": [_plain(phrase) for phrase in draft.phrases],
    }


def _ridden(draft: Any) -> str:
    before, after = (
        sum(getattr(phrase, name) for phrase in draft.phrases) / max(len(draft.phrases), 1)
        for name in ("spread_before", "spread_after")
    )
    return f", inside phrases {before:.1f} -> {after:.1f} LU by a ride of {len(draft.curve)} points"


def _turned_down(name: str, details: list[Any]) -> str:
    return f", {sum(d.depth < 0 for d in details)} of {len(details)} {name} down"


def _finite(value: float) -> float | None:
    return round(float(value), 4) if math.isfinite(value) else None


def _number(value: float | None) -> str:
    return "none" if value is None else f"{value:.1f}"


def _time(seconds: float) -> str:
    return f"{int(seconds // 60)}:{seconds % 60:06.3f}"


def _print_json(value: Any) -> None:
    print(json.dumps(value, ensure_ascii=False, indent=1, allow_nan=False))


if __name__ == "__main__":
    main()
