"""The rule on the command line: an option for what is set often, and a file for all of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import reduce
from pathlib import Path
from typing import Any

import click

from nivelus.cli.options import PATH, Number, Option, number_from
from nivelus.core.errors import RuleError
from nivelus.core.files import check_readable, whole_file
from nivelus.core.kinds import GAP, KINDS, Kind
from nivelus.core.rule import DEFAULT, Choice, Rule, Switch, about, default, with_values
from nivelus.core.rule import Number as NumberSetting
from nivelus.core.rule_file import LARGEST, read_rule, write_rule

AUTO, MEDIAN, AS_THE_RULE = "auto", "median", "as the rule"
WIDEST = {"shallowest": 0.0, "deepest": -60.0}
"""The range of dips whose depth was said: they go down by that, whatever the range of the rule."""
PLAIN = {
    "unit": "target.unit",
    "tolerance": "target.tolerance",
    "strength": "phrases.strength",
    "most_up": "phrases.most_up",
    "most_down": "phrases.most_down",
    "ceiling": "phrases.ceiling",
    "noise_limit": "phrases.noise_limit",
    "peaks": "phrases.peaks",
    "settle": "phrases.settle",
    "longest": "phrases.longest",
    "gaps_even": "details.gap.even",
    "pace": "ride.pace",
    "natural_fall": "ride.natural_fall",
    "format": "out.format",
    "bits": "out.bits",
}
"""Options that are a setting as it is, by the path of that."""


class _Strength(Number):
    """A strength, or that of the rule."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        return value if value == AS_THE_RULE else super().convert(value, param, ctx)


def of_rule(name: str) -> Option:
    """An option for a setting of PLAIN, with the limits, the words and the default that it has."""
    path = PLAIN[name]
    option = "--" + name.replace("_", "-")
    match about(path):
        case NumberSetting(least, most, unit, words):
            return click.option(
                option, type=Number(least, most), show_default=f"{default(path):g}", help=f"{words}{unit and ', ' + unit}."
            )
        case Choice(options, words):
            kind = int if isinstance(options[0], int) else click.Choice([str(one) for one in options])
            return click.option(option, type=kind, show_default=str(default(path)), help=f"{words}.")
        case Switch(words):
            said = words.removesuffix("; on the command line")
            return click.option(f"{option}/--no-{name.replace('_', '-')}", default=None, help=f"{said}.")


def _depth(kind: Kind) -> Option:
    what = f"Turn down what stands out in {kind.plural}, by up to" if kind.goes_by_excess else f"Turn {kind.plural} down by"
    return click.option(f"--{kind.plural}", type=Number(*_limits(f"details.{kind.name}.depth")), help=f"{what} this, dB.")


def _share(name: str, path: str, words: str) -> Option:
    least, most = _limits(path)
    return click.option(name, type=Number(100 * least, 100 * most), show_default=f"{100 * default(path):g}", help=words)


def _limits(path: str) -> tuple[float, float]:
    setting = about(path)
    assert isinstance(setting, NumberSetting)
    return setting.least, setting.most


OPTIONS: tuple[Option, ...] = (
    click.option("--rule", "rule_file", type=PATH, help="A file with the rule (TOML); an option given beside it comes first."),
    click.option("--save-rule", type=PATH, help="Write the rule that is used to a file."),
    click.option(
        "--target",
        show_default=f"{DEFAULT.target.level:g}",
        help="Target in LUFS, dBFS or dBTP, as the unit says; median: that of the phrases; "
        "auto: -18, or as far below it as ceiling and noise limit ask for.",
    ),
    *map(of_rule, ("unit", "tolerance", "strength", "most_up", "most_down")),
    click.option("--base", show_default="auto", help="Overall gain, which both limits count from: auto, none, or dB."),
    *map(of_rule, ("ceiling", "noise_limit")),
    *map(_depth, KINDS),
    of_rule("gaps_even"),
    _share("--gaps-close", "details.gap.closes", "Share of a gap over which it closes, %."),
    _share("--gaps-open", "details.gap.opens", "Share of a gap over which it opens, %."),
    *map(of_rule, ("peaks", "settle", "longest")),
    click.option(
        "--ride",
        type=_Strength(*_limits("ride.strength")),
        help=f"Also even out what happens inside phrases, %; {DEFAULT.ride.strength:g}, or as the rule says, without a number.",
    ),
    *map(of_rule, ("pace", "natural_fall")),
    click.option(
        "--duck", type=Number(*_limits("duck.depth")), help=f"How far the bed ducks, dB; {DEFAULT.duck.depth:g} if not given."
    ),
    click.option("--distance", type=Number(*_limits("duck.distance")), help="Distance to keep between voice and bed, LU."),
    *map(of_rule, ("format", "bits")),
)


def ruled(command: Callable[..., Any]) -> Callable[..., Any]:
    """A command with an option for what is set often of a rule; what was given comes as ``asked``, None where it was not."""
    return reduce(lambda function, option: option(function), reversed(OPTIONS), command)


def rule_asked(file: Path | None, asked: Mapping[str, Any]) -> Rule:
    """The rule that is asked for: that of a file, or as it comes, with what the options say instead.

    Raises
    ------
    RuleError
        If the file holds none.
    click.BadParameter
        If an option says what cannot be.
    """
    rule = DEFAULT if file is None else _read(file)
    meant = {name: _settings(name, value) for name, value in asked.items() if value is not None}
    try:
        # all at once: what one option asks for may only fit what another one does
        return with_values(rule, {path: value for one in meant.values() for path, value in one.items()})
    except RuleError as error:
        told = [name for name, one in meant.items() if any(path.endswith(error.fields["setting"]) for path in one)]
        raise click.BadParameter(error.sentence, param_hint=[f"--{name.replace('_', '-')}" for name in told]) from None


def _read(file: Path) -> Rule:
    check_readable(file)
    try:
        with file.open("rb") as source:
            return read_rule(source.read(LARGEST + 1))
    except RuleError as error:
        raise RuleError(f"“{file}” cannot be used: {error.sentence}", **error.fields) from None


def save(rule: Rule, file: Path, overwrite: bool) -> None:
    """Write a rule to a file, whole or not at all. Raises Taken where one is there that may not be overwritten."""
    data = write_rule(rule)
    with whole_file(file, overwrite) as part:
        part.write_bytes(data)


def _settings(name: str, value: Any) -> dict[str, Any]:
    """The settings that an option stands for, by their paths."""
    kinds = {kind.plural: kind.name for kind in KINDS}
    match name:
        case "target":
            return _target(value)
        case "base":
            return _base(value)
        case "gaps_close" | "gaps_open":
            return {f"details.gap.{'closes' if name == 'gaps_close' else 'opens'}": value / 100}
        case "gaps_even":
            return {PLAIN[name]: value} | ({"details.gap.on": True} | _range(GAP.name) if value else {})
        case "ride":
            return {"ride.on": True} | ({} if value == AS_THE_RULE else {"ride.strength": value})
        case "duck":
            return {"duck.way": "depth", "duck.depth": value}
        case "distance":
            return {"duck.way": "distance", "duck.distance": value}
        case _ if name in kinds:
            kind = kinds[name]
            return {f"details.{kind}.on": True, f"details.{kind}.depth": value} | _range(kind)
        case _:
            return {PLAIN[name]: value}


def _range(kind: str) -> dict[str, float]:
    return {f"details.{kind}.{name}": value for name, value in WIDEST.items()}


def _target(given: str) -> dict[str, Any]:
    if given == MEDIAN:
        return {"target.kind": "median", "target.lower": False}
    least, most = _limits("target.level")
    level = (
        DEFAULT.target.level
        if given == AUTO
        else number_from(given, least, most, f"Give auto, median, or a number from {least:g} to {most:g}.", "--target")
    )
    return {"target.kind": "absolute", "target.level": level, "target.lower": given == AUTO}


def _base(given: str) -> dict[str, Any]:
    if given in ("auto", "none"):
        return {"phrases.base_kind": given}
    least, most = _limits("phrases.base")
    said = f"Say auto, none, or a number of dB from {least:g} to {most:g}."
    return {"phrases.base_kind": "hand", "phrases.base": number_from(given, least, most, said, "--base")}
