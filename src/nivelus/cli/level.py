"""Levelling files: phrases, details, ride, and a bed that makes room."""

from __future__ import annotations

import math
import os
import signal
import sys
from contextlib import suppress
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from nivelus.cli.options import (
    PATH,
    PLURALS,
    app,
    as_json,
    finite,
    longest_phrase,
    plain,
    print_json,
    travel_light,
    why,
    within,
)
from nivelus.cli.telling import (
    AUTO,
    TARGET,
    details_told,
    held_back,
    load_values,
    ride_told,
    ride_values,
    room_told,
    room_values,
    slow_values,
)
from nivelus.core.errors import NivelusError
from nivelus.core.files import check_readable, clear_parts, free_bytes, size_in_words, whole_file

if TYPE_CHECKING:
    from nivelus.core.drafts.clip_gain import BaseKind
    from nivelus.core.drafts.wants import Pace

STOPS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


@app.command()
@click.argument("files", type=PATH, nargs=-1, required=True)
@click.option("-o", "--output", type=PATH, required=True, help="A file name for one file, or a folder.")
@click.option(
    "--target",
    default=f"{TARGET:g}",
    show_default=True,
    help="Target in LUFS, dBFS or dBTP, as the unit says; auto: -18, or as far below it as ceiling and noise limit ask for.",
)
@click.option("--unit", type=click.Choice(["loudness", "rms", "peak"]), default="loudness", help="How phrases are measured.")
@within("--tolerance", least=0, most=12, default=1.5, help="Phrases this near to the target are level, +- LU or dB.")
@within("--strength", least=0, most=100, default=100.0, help="How far phrases move towards the target, %.")
@within("--most-up", least=0, most=60, default=9.0, help="Upper limit of a phrase's gain, dB.")
@within("--most-down", least=0, most=60, default=12.0, help="Lower limit of a phrase's gain, dB.")
@click.option("--base", default="auto", help="Overall gain, which both limits count from: auto, none, or dB.")
@within("--ceiling", least=-40, most=0, default=-1.0, help="No gain goes up past this true peak, dBTP.")
@within("--noise-limit", least=-100, most=0, default=-40.0, help="No gain lifts room tone past this, dBFS.")
@within("--breaths", least=-60, most=0, help="Turn breaths down by this, dB.")
@within("--esses", least=-60, most=0, help="Turn down what stands out in esses, by up to this, dB.")
@within("--knocks", least=-60, most=0, help="Turn knocks down by this, dB.")
@within("--gaps", least=-60, most=0, help="Turn gaps down by this, dB.")
@click.option("--gaps-even", is_flag=True, help="Turn gaps down to the level of the quietest, by up to --gaps.")
@within("--gaps-close", least=0, most=40, default=30.0, help="Share of a gap over which it closes, %.")
@within("--gaps-open", least=0, most=30, default=10.0, help="Share of a gap over which it opens, %.")
@click.option("--peaks", is_flag=True, help="Turn down short peaks that hold a phrase back, by up to 9 dB.")
@click.option("--settle/--no-settle", "settled", default=True, help="Keep phrases level when the ride moves them.")
@longest_phrase
@within("--ride", least=0, most=100, help="Also even out what happens inside phrases, %; 80 if no number is given.")
@click.option("--pace", type=click.Choice(["calm", "usual", "quick"]), default="usual", help="How steep the ride may be.")
@within("--natural-fall", least=0, most=12, default=2.0, help="How far a spoken phrase may sink towards its end, LU.")
@click.option("--curve", type=PATH, help="Add a gain curve drawn elsewhere: CSV (seconds,dB) or MIDI file (volume).")
@click.option("--curve-as", type=click.Choice(["csv", "mid"]), help="Write the ride beside the output, as CSV or MIDI file.")
@click.option("--slow", is_flag=True, help="Level what has no phrases by a slow ride to the target, or to its own median.")
@click.option("--bed", type=PATH, help="Music or ambience that makes room for the voice.")
@within("--duck", least=-60, most=0, help="How far the bed ducks, dB; -9 if not given.")
@within("--distance", least=0, most=60, help="Distance to keep between voice and bed, LU.")
@click.option("--mix", type=PATH, help="Also write voice and bed mixed together.")
@click.option("--load", is_flag=True, help="Report how hard and how evenly a compressor would work, before and after.")
@click.option("--format", type=click.Choice(["wav", "flac"]), help="Output format; taken from the output's name if not given.")
@click.option("--bits", type=int, default=24, help="16, 24, or 32 (float, WAV only).")
@click.option("--recursive", is_flag=True, help="Include the subfolders of a folder; the tree is kept.")
@click.option("--overwrite", is_flag=True, help="Overwrite existing files; never an input.")
@as_json
@click.pass_context
def level(
    context: click.Context,
    files: tuple[Path, ...],
    output: Path,
    target: str,
    unit: str,
    tolerance: float,
    strength: float,
    most_up: float,
    most_down: float,
    base: str,
    ceiling: float,
    noise_limit: float,
    breaths: float | None,
    esses: float | None,
    knocks: float | None,
    gaps: float | None,
    gaps_even: bool,
    gaps_close: float,
    gaps_open: float,
    peaks: bool,
    settled: bool,
    longest: float,
    ride: float | None,
    pace: Pace,
    natural_fall: float,
    curve: Path | None,
    curve_as: str | None,
    slow: bool,
    bed: Path | None,
    duck: float | None,
    distance: float | None,
    mix: Path | None,
    load: bool,
    format: str | None,
    bits: int,
    recursive: bool,
    overwrite: bool,
    as_json: bool,
) -> None:
    """Even out the phrases of files, turn their breaths, esses, knocks and gaps down, and render them.

    FILES are sound files, or folders of them.
    """
    aim = _target(target)
    kind = format or ("flac" if output.suffix.lower() == ".flac" else "wav")
    if bits not in (16, 24, 32) or (kind == "flac" and bits == 32):
        raise click.BadParameter("WAV takes 16, 24 or 32 bits, FLAC 16 or 24.", param_hint="--bits")
    is_single = len(files) == 1 and not files[0].is_dir()
    is_file = is_single and not output.is_dir() and output.suffix.lower() in (".wav", ".flac", ".bwf")
    if not is_single and output.is_file():
        raise click.BadParameter("Several files need a folder to go to.", param_hint="-o")
    if curve_as and ride is None and curve is None:
        raise click.BadParameter("There is a curve to write only with --ride or --curve.", param_hint="--curve-as")
    from nivelus.core.deliver.outputs import Output, check_outputs, find_sources, plan_outputs

    sources = find_sources(files, recursive, output)
    _check_bed(bed, duck, distance, mix, slow, len(sources))
    planned = plan_outputs(sources, output, is_file, kind, curve_as)
    if mix and any(mix.resolve() == path.resolve() for plan in planned for path in plan.files):
        raise click.BadParameter("The mix and the levelled voice are two files.", param_hint="--mix")
    read = [*(source.path for source in sources), *(path for path in (curve, bed) if path)]
    check_outputs([*planned, *([Output(bed, mix)] if bed and mix else [])], read, overwrite)
    _stop_tidily()
    travel_light()
    from nivelus.core.deliver.against import level_slowly, make_room
    from nivelus.core.deliver.curve_formats import read_curve
    from nivelus.core.deliver.level import level_file
    from nivelus.core.drafts.clip_gain import ClipGainRule
    from nivelus.core.drafts.dip_rules import DEFAULT_RULES, DipRule
    from nivelus.core.drafts.duck import DuckRule
    from nivelus.core.drafts.slow import SlowRule
    from nivelus.core.drafts.wants import RideRule
    from nivelus.core.dynamics.compressor import Compressor
    from nivelus.core.dynamics.load import compare
    from nivelus.core.gain.drawn import EMPTY
    from nivelus.core.sound.timeline import open_sound

    given = {"breath": breaths, "ess": esses, "knock": knocks, "gap": gaps}
    if gaps_even and gaps is None:
        given["gap"] = DEFAULT_RULES["gap"].depth
    dips = {kind: DipRule(depth, 0.0, -60.0) for kind, depth in given.items() if depth is not None}
    if "gap" in dips:
        dips["gap"] = replace(dips["gap"], even=gaps_even, closes=gaps_close / 100, opens=gaps_open / 100)
    base_kind, base_db = _base(base)
    rule = ClipGainRule(aim, tolerance, strength / 100, most_up, most_down, ceiling, noise_limit, base_db)
    drawn = read_curve(curve) if curve else EMPTY
    riding = None if ride is None else RideRule(ride / 100, natural_fall=natural_fall, pace=pace, noise_limit=noise_limit)
    done: list[dict[str, Any]] = []
    failed = 0
    for plan in planned:
        file, goal = plan.source, plan.sound
        try:
            check_readable(file)
            goal.parent.mkdir(parents=True, exist_ok=True)
            _warn_of_room(file, goal)
            if slow:
                towards = aim if _was_given(context, "target") and target != AUTO else None
                ridden = level_slowly(
                    *(file, goal, SlowRule(target=towards, strength=strength / 100, most_up=most_up, most_down=most_down)),
                    *(kind, bits, overwrite),
                )
                done.append({"input": str(file), "output": str(goal), "slow": slow_values(ridden)})
                if not as_json:
                    print(
                        f"{file} -> {goal}: range {ridden.before:.1f} -> {ridden.after:.1f} LU around "
                        f"{ridden.target:.1f} LUFS by a slow ride of {len(ridden.curve)} points"
                    )
                continue
            result = level_file(
                *(file, goal, rule, unit, kind, bits),
                dips=dips,
                ride=riding,
                drawn=drawn,
                replace_file=overwrite,
                base_kind=base_kind,
                peaks=peaks,
                settled=settled,
                longest=longest,
                lower=target == AUTO,
            )
            if plan.curve:
                _write_curve(result.curve, plan.curve, overwrite)
            room = work = None
            if bed:
                room_rule = DuckRule() if duck is None else DuckRule(depth=duck)
                room_rule = room_rule if distance is None else DuckRule("distance", distance=distance)
                mix_kind = "flac" if mix and mix.suffix.lower() == ".flac" else "wav"
                room = make_room(file, result.state, bed, room_rule, mix, mix_kind, bits, overwrite)
            if load:
                work = compare(partial(open_sound, file), result.state.gain, Compressor(), result.state.clips.phrases)
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
                "target": finite(result.target),
                "base": finite(result.base),
                "held": dict(result.held),
                **({"freeing": result.freeing} if result.freeing is not None else {}),
                "phrases": [plain(phrase) for phrase in result.phrases],
                **({"details": [plain(detail) for detail in result.details]} if dips or peaks else {}),
                **({"ride": ride_values(result.ride)} if result.ride else {}),
                **({"curve": str(plan.curve)} if plan.curve else {}),
                **({"bed": room_values(room, mix)} if room else {}),
                **({"load": load_values(work, Compressor())} if work else {}),
                "before": plain(result.before) | plain(result.evenness_before),
                "after": plain(result.after) | plain(result.evenness_after),
            }
        )
        if not as_json:
            before, after = result.evenness_before, result.evenness_after
            print(
                f"{file} -> {goal}: level {before.level} -> {after.level} of {after.count} phrases, "
                f"spread {before.spread:.1f} -> {after.spread:.1f} {'LU' if unit == 'loudness' else 'dB'}"
                + (f", base {result.base:+.1f} dB" if abs(result.base) >= 0.05 else "")
                + "".join(details_told(PLURALS[kind], [d for d in result.details if d.kind == kind]) for kind in dips)
                + (ride_told(result.ride) if result.ride else "")
            )
            for line in held_back(result, target, unit):
                print(f"  {line}")
            if room:
                print(room_told(room, distance, mix))
            if work:
                print(
                    f"  compressor at equal work (-> {work.proposed:.1f} dBFS): {work.before.average:.1f} dB on the average, "
                    f"spread from phrase to phrase {work.before.spread:.1f} -> {work.at_proposed.spread:.1f} dB"
                )
    if as_json:
        print_json({"files": done})
    if failed:
        sys.exit(1)


def _target(given: str) -> float:
    """What ``--target`` aims at before anything holds it back."""
    return TARGET if given == AUTO else _number(given, -60, 0, "Give auto, or a number from -60 to 0.", "--target")


def _number(given: str, least: float, most: float, refusal: str, option: str) -> float:
    """A number where a word could stand as well; refused where it is none from ``least`` to ``most``."""
    try:
        value = float(given)
    except ValueError:
        value = math.nan
    if not least <= value <= most:
        raise click.BadParameter(refusal, param_hint=option)
    return value


def _was_given(context: click.Context, name: str) -> bool:
    source = context.get_parameter_source(name)
    return source is not None and source.name != "DEFAULT"


def _check_bed(bed: Path | None, duck: float | None, distance: float | None, mix: Path | None, slow: bool, files: int) -> None:
    if bed is None and not (duck is None and distance is None and mix is None):
        raise click.BadParameter("There is room to be made only by a bed: say --bed.", param_hint="--duck, --distance, --mix")
    if duck is not None and distance is not None:
        raise click.BadParameter("Say by how much it goes down, or to which distance, not both.", param_hint="--duck")
    if bed is not None and (files > 1 or slow):
        raise click.BadParameter("A bed makes room for one levelled voice at a time.", param_hint="--bed")
    if mix is not None and mix.suffix.lower() not in (".wav", ".flac"):
        raise click.BadParameter("The mix is written as .wav or .flac.", param_hint="--mix")


def _base(given: str) -> tuple[BaseKind, float]:
    """What ``--base`` means: its kind, and dB where it is a number."""
    if given == "auto":
        return "auto", 0.0
    if given == "none":
        return "none", 0.0
    return "hand", _number(given, -60, 60, "Say auto, none, or a number of dB from -60 to 60.", "--base")


def _stop_tidily() -> None:
    """Let a signal end the program at once, with nothing half-written left.

    Nothing is raised: a signal may come while an object is being destroyed, where Python prints what is raised and goes on.
    """

    def stop(number: int, _: Any) -> None:
        clear_parts()
        # it may have come while that very stream was written, or because nobody reads it any more
        with suppress(RuntimeError, OSError):
            sys.stdout.flush()
        with suppress(OSError):
            os.write(2, b"Stopped. What was not finished is not there.\n")
        os._exit(128 + number)

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
