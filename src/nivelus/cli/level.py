"""Levelling files: phrases, details, ride, and a bed that makes room."""

from __future__ import annotations

import os
import signal
import sys
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from nivelus.cli.options import PATH, app, as_json, channel, print_json, sound_track, travel_light, why
from nivelus.cli.ruled import rule_asked, ruled, save
from nivelus.core.deliver.curve_formats import FORMATS, every_format
from nivelus.core.errors import NivelusError, RuleError
from nivelus.core.files import check_readable, clear_parts, free_bytes, size_in_words
from nivelus.core.kinds import listed
from nivelus.core.rule import Rule, with_values
from nivelus.core.sound_formats import WRITTEN, written_by_name

if TYPE_CHECKING:
    from nivelus.core.deliver.outputs import Output

STOPS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


@dataclass(frozen=True)
class Job:
    """What is done to every file: the ``rule``, and what is written and told besides."""

    rule: Rule
    curve: Path | None
    slow: bool
    bed: Path | None
    mix: Path | None
    load: bool
    sound_track: int | None
    channel: int | None
    overwrite: bool
    followers: tuple[Output, ...] = ()


@app.command(
    help=f"""Even out the phrases of files, turn their {listed()} down, and render them.

    FILES are sound files, or folders of them.
    """
)
@click.argument("files", type=PATH, nargs=-1, required=True)
@click.option("-o", "--output", type=PATH, required=True, help="A file name for one file, or a folder.")
@ruled
@click.option("--curve", type=PATH, help=f"Add a gain curve drawn elsewhere: {every_format()}.")
@click.option("--curve-as", type=click.Choice([known.ending for known in FORMATS]), help="Write the ride beside the output.")
@click.option("--slow", is_flag=True, help="Level what has no phrases by a slow ride, within --most-up and --most-down.")
@click.option("--bed", type=PATH, help="Music or ambience that makes room for the voice.")
@click.option("--mix", type=PATH, help="Also write voice and bed mixed together.")
@click.option("--follow", type=PATH, multiple=True, help="Another microphone of the voice, which gets the same gain; several.")
@click.option("--load", is_flag=True, help="Report how hard and how evenly a compressor would work, before and after.")
@sound_track
@channel
@click.option("--recursive", is_flag=True, help="Include the subfolders of a folder; the tree is kept.")
@click.option("--overwrite", is_flag=True, help="Overwrite existing files; never an input.")
@as_json
def level(
    files: tuple[Path, ...],
    output: Path,
    rule_file: Path | None,
    save_rule: Path | None,
    curve: Path | None,
    curve_as: str | None,
    slow: bool,
    bed: Path | None,
    mix: Path | None,
    follow: tuple[Path, ...],
    load: bool,
    sound_track: int | None,
    channel: int | None,
    recursive: bool,
    overwrite: bool,
    as_json: bool,
    **asked: Any,
) -> None:
    """Even out files and render them."""
    is_single = len(files) == 1 and not files[0].is_dir()
    is_file = is_single and not output.is_dir() and written_by_name(output) is not None
    rule = _named(rule_asked(rule_file, asked), output if is_file and asked["format"] is None else None)
    if slow:
        rule = _for_slow(rule, asked, rule_file is None)
    if not is_single and output.is_file():
        raise click.BadParameter("Several files need a folder to go to.", param_hint="-o")
    if curve_as and not rule.ride.on and curve is None:
        raise click.BadParameter("There is a curve to write only with --ride or --curve.", param_hint="--curve-as")
    from nivelus.core.deliver.outputs import Output, Source, check_outputs, find_sources, plan_outputs

    sources = find_sources(files, recursive, output)
    _check_bed(bed, asked, mix, slow, len(sources))
    _check_follow(follow, slow, is_file, len(sources))
    planned = plan_outputs([*sources, *map(Source, follow)], output, is_file, rule.out.format, curve_as)
    planned, followers = planned[: len(sources)], tuple(Output(plan.source, plan.sound) for plan in planned[len(sources) :])
    read = [*(source.path for source in sources), *(path for path in (*follow, curve, bed, rule_file) if path)]
    check_outputs([*planned, *followers, *([Output(bed, mix)] if bed and mix else [])], read, overwrite)
    written = {path.resolve() for plan in (*planned, *followers) for path in plan.files}
    if mix and mix.resolve() in written:
        raise click.BadParameter("The mix and the levelled voice are two files.", param_hint="--mix")
    if save_rule:
        if save_rule.resolve() in written | {path.resolve() for path in (*read, *([mix] if mix else []))}:
            raise click.BadParameter("The rule needs a file of its own.", param_hint="--save-rule")
        save(rule, save_rule, overwrite)
    _stop_tidily()
    travel_light()
    job = Job(rule, curve, slow, bed, mix, load, sound_track, channel, overwrite, followers)
    told = _level_all(planned, job, as_json)
    if as_json:
        print_json({"files": told})
    if len(told) < len(planned):
        sys.exit(1)


def _for_slow(rule: Rule, asked: dict[str, Any], is_plain: bool) -> Rule:
    """A rule whose slow ride goes by what was asked for; to the track's own median if neither that nor a file says more."""
    own = {f"slow.{name}": asked[name] for name in ("strength", "most_up", "most_down") if asked[name] is not None}
    return with_values(rule, own | ({"target.kind": "median"} if is_plain and asked["target"] is None else {}))


def _named(rule: Rule, output: Path | None) -> Rule:
    """A rule with the format that the name of the one output asks for."""
    if output is None:
        return rule
    try:
        return with_values(rule, {"out.format": written_by_name(output) or "wav"})
    except RuleError as error:
        raise click.BadParameter(error.sentence, param_hint="--bits") from None


def _level_all(planned: list[Output], job: Job, as_json: bool) -> list[dict[str, Any]]:
    """Level files one after the other; what became of those that could be, as JSON values."""
    from nivelus.cli.levelling import level_one
    from nivelus.core.deliver.curve_formats import read_curve
    from nivelus.core.gain.drawn import EMPTY

    drawn = read_curve(job.curve) if job.curve else EMPTY
    done = []
    for plan in planned:
        try:
            check_readable(plan.source)
            plan.sound.parent.mkdir(parents=True, exist_ok=True)
            _warn_of_room(plan.source, plan.sound)
            values, lines = level_one(plan, job, drawn)
        except NivelusError as error:
            print(error.sentence, file=sys.stderr)
            continue
        except OSError as error:
            print(f"“{plan.source}” could not be levelled: {why(error)}", file=sys.stderr)
            continue
        done.append(values)
        if not as_json:
            print("\n".join(lines))
    return done


def _check_bed(bed: Path | None, asked: dict[str, Any], mix: Path | None, slow: bool, files: int) -> None:
    duck, distance = asked["duck"], asked["distance"]
    if bed is None and not (duck is None and distance is None and mix is None):
        raise click.BadParameter("There is room to be made only by a bed: say --bed.", param_hint="--duck, --distance, --mix")
    if duck is not None and distance is not None:
        raise click.BadParameter("Say by how much it goes down, or to which distance, not both.", param_hint="--duck")
    if bed is not None and (files > 1 or slow):
        raise click.BadParameter("A bed makes room for one levelled voice at a time.", param_hint="--bed")
    if mix is not None and written_by_name(mix) is None:
        endings = " or ".join(f".{one.name}" for one in WRITTEN)
        raise click.BadParameter(f"The mix is written as {endings}.", param_hint="--mix")


def _check_follow(follow: tuple[Path, ...], slow: bool, is_file: bool, files: int) -> None:
    if follow and (files > 1 or slow):
        raise click.BadParameter("Other microphones follow one levelled voice at a time.", param_hint="--follow")
    if follow and is_file:
        raise click.BadParameter("Several microphones need a folder to go to.", param_hint="-o")


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
