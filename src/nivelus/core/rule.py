"""The rule of a levelling: all that can be set of it, with its default, its limits and its words, stated once.

Conventions
-----------
A rule has sections, and each section settings. Strengths are percent, gains and depths dB, levels in the unit that the target
names, times seconds. ``about`` tells of each setting what it may be and what it does: the page, the tables, the requests and
the command line take all of it from here.

As a file it is TOML, see ``core.rule_file``.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, field, fields, is_dataclass, replace
from typing import Any, Literal, Self, get_args

from nivelus.core.errors import RuleError
from nivelus.core.kinds import BREATH, ESS, GAP, KNOCK, NAMES, OF_NAME, Kind
from nivelus.core.sound_formats import Bits, Written, why_not_written

Unit = Literal["loudness", "rms", "peak"]
TargetKind = Literal["absolute", "median", "reference"]
BaseKind = Literal["auto", "hand", "none"]
Pace = Literal["calm", "usual", "quick"]
Way = Literal["depth", "distance"]


@dataclass(frozen=True, slots=True)
class Number:
    """A setting that is a number from ``least`` to ``most``, in a ``unit``; a slider goes from ``low`` to ``high``."""

    least: float
    most: float
    unit: str
    words: str
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Choice:
    """A setting that is one of some words."""

    options: tuple[str | int, ...]
    words: str


@dataclass(frozen=True, slots=True)
class Switch:
    """A setting that is on or off."""

    words: str


About = Number | Choice | Switch


def _number(
    default: float, least: float, most: float, unit: str, words: str, slider: tuple[float, float] | None = None
) -> float:
    return field(default=default, metadata={"about": Number(least, most, unit, words, *(slider or (least, most)))})


def _choice(options: tuple[str | int, ...], words: str) -> dict[str, About]:
    return {"about": Choice(options, words)}


def _switch(default: bool, words: str) -> bool:
    return field(default=default, metadata={"about": Switch(words)})


@dataclass(frozen=True, slots=True)
class _Section:
    """Settings that belong together. Raises RuleError where one of them is out of its limits."""

    def __post_init__(self) -> None:
        for one in fields(self):
            if "about" in one.metadata:
                _check(one.name, getattr(self, one.name), one.metadata["about"])


def _check(name: str, value: object, about: About) -> None:
    """Raise RuleError where a value is none that a setting may have."""
    match about:
        case Number(least, most, unit):
            # True is a number to Python, and to nobody else
            if isinstance(value, bool) or not isinstance(value, int | float) or value != value:
                raise RuleError(f"{name} is a number from {least:g} to {most:g}{unit and ' ' + unit}.", setting=name)
            if not least <= value <= most:
                what = f"{name} is {str(value)[:20]}: it goes from {least:g} to {most:g}{unit and ' ' + unit}."
                raise RuleError(what, setting=name)
        case Choice(options):
            # 24.0 is 24 to Python as well
            if type(value) is not type(options[0]) or value not in options:
                raise RuleError(f"{name} is one of {', '.join(map(str, options))}.", setting=name)
        case Switch():
            if not isinstance(value, bool):
                raise RuleError(f"{name} is true or false.", setting=name)


@dataclass(frozen=True, slots=True)
class TargetSettings(_Section):
    """What phrases are to be as loud as."""

    unit: Unit = field(default="loudness", metadata=_choice(("loudness", "rms", "peak"), "How phrases are measured"))
    kind: TargetKind = field(
        default="absolute",
        metadata=_choice(
            ("absolute", "median", "reference"), "A level, the median of the phrases, or phrases that are references"
        ),
    )
    level: float = _number(-18.0, -60, 0, "", "Target in LUFS, dBFS or dBTP, as the unit says")
    lower: bool = _switch(False, "Aim lower where ceiling or noise limit ask for it; on the command line")
    tolerance: float = _number(1.5, 0, 12, "LU or dB", "How near to the target phrases are level", (0, 6))
    mono_as_two: bool = _switch(False, "Count a mono voice as two loudspeakers")


@dataclass(frozen=True, slots=True)
class PhraseSettings(_Section):
    """How far phrases are moved, and what holds them back."""

    strength: float = _number(100.0, 0, 100, "%", "How far phrases move towards the target")
    most_up: float = _number(9.0, 0, 60, "dB", "Upper limit of a phrase's gain", (0, 24))
    most_down: float = _number(12.0, 0, 60, "dB", "Lower limit of a phrase's gain", (0, 24))
    base_kind: BaseKind = field(default="auto", metadata=_choice(("auto", "hand", "none"), "Where the overall gain comes from"))
    base: float = _number(0.0, -60, 60, "dB", "Overall gain by hand, which both limits count from", (-30, 40))
    ceiling: float = _number(-1.0, -40, 0, "dBTP", "No gain goes up past this true peak", (-12, 0))
    noise_limit: float = _number(-40.0, -100, 0, "dBFS", "No gain lifts room tone past this", (-80, -20))
    peaks: bool = _switch(False, "Turn down short peaks that hold a phrase back, by up to 9 dB; on the command line")
    settle: bool = _switch(True, "Keep phrases level when details or a ride move them")
    keep_by_hand: bool = _switch(True, "Keep gains set by hand")
    longest: float = _number(8.0, 1, 600, "s", "Divide phrases that last longer at their pauses", (2, 30))


@dataclass(frozen=True, slots=True)
class DipSettings(_Section):
    """How the marks of one kind go down."""

    on: bool = _switch(False, "Whether they go down")
    depth: float = _number(0.0, -60, 0, "dB", "By how much they go down")
    shallowest: float = _number(0.0, -60, 0, "dB", "Each goes down by this at least")
    deepest: float = _number(-40.0, -60, 0, "dB", "Each goes down by this at most")

    @classmethod
    def of(cls, kind: Kind) -> Self:
        """The rule of a kind as it comes."""
        return cls(depth=kind.depth, shallowest=kind.shallowest, deepest=kind.deepest)

    def __post_init__(self) -> None:
        # the base is named: with slots the class is another one than the one that super() means
        _Section.__post_init__(self)
        if self.deepest > self.shallowest:
            raise RuleError("deepest is not above shallowest.", setting="deepest")


@dataclass(frozen=True, slots=True)
class GapSettings(DipSettings):
    """How gaps go down."""

    silent: bool = _switch(False, "Gaps go down to silence")
    even: bool = _switch(False, "Gaps go down to the level of the quietest, by the depth at most")
    closes: float = _number(0.3, 0, 0.4, "", "Share of a gap over which it closes")
    opens: float = _number(0.1, 0, 0.3, "", "Share of a gap over which it opens")


@dataclass(frozen=True, slots=True)
class DetailSettings(_Section):
    """How the details of each kind go down."""

    breath: DipSettings = field(default=DipSettings.of(BREATH))
    ess: DipSettings = field(default=DipSettings.of(ESS))
    knock: DipSettings = field(default=DipSettings.of(KNOCK))
    gap: GapSettings = field(default=GapSettings.of(GAP))


assert tuple(one.name for one in fields(DetailSettings)) == NAMES


@dataclass(frozen=True, slots=True)
class RideSettings(_Section):
    """How a ride evens out what happens inside phrases."""

    on: bool = _switch(False, "Whether a ride is drafted; on the command line")
    strength: float = _number(80.0, 0, 100, "%", "How far the inside of phrases is evened out")
    most_up: float = _number(6.0, 0, 60, "dB", "How far a ride goes up", (0, 15))
    most_down: float = _number(9.0, 0, 60, "dB", "How far a ride goes down", (0, 15))
    natural_fall: float = _number(2.0, 0, 12, "LU", "How far a spoken phrase may sink towards its end", (0, 6))
    pace: Pace = field(default="usual", metadata=_choice(("calm", "usual", "quick"), "How steep the ride may be"))
    error: float = _number(0.3, 0.05, 6, "dB", "How far its points may lie from what was asked for", (0.1, 2))


@dataclass(frozen=True, slots=True)
class DuckSettings(_Section):
    """How a bed makes room for a voice."""

    way: Way = field(default="depth", metadata=_choice(("depth", "distance"), "By so much, or as far as a distance needs"))
    depth: float = _number(-9.0, -60, 0, "dB", "How far the bed ducks", (-30, 0))
    distance: float = _number(12.0, -20, 60, "LU", "Distance to keep between voice and bed", (0, 30))
    lead: float = _number(0.15, 0, 5, "s", "How long before a phrase the bed begins to go down", (0, 1))
    hold: float = _number(0.8, 0, 30, "s", "How long a pause has to be for the bed to come back", (0, 5))
    release: float = _number(0.6, 0.01, 30, "s", "How long the bed takes to come back", (0.05, 4))
    most_down: float = _number(18.0, 0, 60, "dB", "How far the bed goes down at most", (0, 40))


@dataclass(frozen=True, slots=True)
class SlowSettings(_Section):
    """How a slow ride evens out what has no phrases."""

    strength: float = _number(100.0, 0, 100, "%", "How far it moves towards the target")
    most_up: float = _number(12.0, 0, 60, "dB", "How far it goes up", (0, 24))
    most_down: float = _number(12.0, 0, 60, "dB", "How far it goes down", (0, 24))


@dataclass(frozen=True, slots=True)
class OutSettings(_Section):
    """How what is rendered is written by the command line."""

    format: Written = field(default="wav", metadata=_choice(get_args(Written), "Output format"))
    bits: int = field(default=24, metadata=_choice(get_args(Bits), "Bits of a sample; 32 is float"))

    def __post_init__(self) -> None:
        _Section.__post_init__(self)
        if why := why_not_written(self.format, self.bits):
            raise RuleError(why, setting="bits")


@dataclass(frozen=True, slots=True)
class Rule:
    """All that can be set of a levelling."""

    target: TargetSettings = TargetSettings()
    phrases: PhraseSettings = PhraseSettings()
    details: DetailSettings = DetailSettings()
    ride: RideSettings = RideSettings()
    duck: DuckSettings = DuckSettings()
    slow: SlowSettings = SlowSettings()
    out: OutSettings = OutSettings()


DEFAULT = Rule()
"""The rule as it comes."""


def _of_kind(path: str, about: About) -> About:
    """What a setting may be, with the slider of the kind of mark that it is of."""
    section, *_, name = path.split(".")
    if section != "details" or not isinstance(about, Number) or name not in ("depth", "shallowest", "deepest"):
        return about
    return replace(about, low=OF_NAME[path.split(".")[1]].sliders[name != "depth"])


def settings(part: Any = DEFAULT, path: str = "") -> Iterator[tuple[str, Any, About]]:
    """Every setting of a rule: its path, as in ``details.breath.depth``, its value, and what it may be."""
    for one in fields(part):
        value, name = getattr(part, one.name), f"{path}{one.name}"
        if is_dataclass(value):
            yield from settings(value, f"{name}.")
        else:
            yield name, value, _of_kind(name, one.metadata["about"])


_ABOUT = {path: about for path, _, about in settings()}
_DEFAULTS = {path: value for path, value, _ in settings()}
_SECTIONS = {path[:at] for path in _ABOUT for at, letter in enumerate(path) if letter == "."}


def about(path: str) -> About:
    """What the setting at a path may be, and its words."""
    return _ABOUT[path]


def limits(path: str) -> tuple[float, float]:
    """The least and the most that the number at a path may be."""
    number = _ABOUT[path]
    assert isinstance(number, Number), path
    return number.least, number.most


def default(path: str) -> Any:
    """What the setting at a path is as it comes."""
    return _DEFAULTS[path]


def with_values(rule: Rule, values: Mapping[str, Any]) -> Rule:
    """A rule with other values at some paths.

    Raises
    ------
    RuleError
        If there is no such setting, or it may not have that value; ``setting`` is its path.
    """
    for path, value in values.items():
        if path not in _ABOUT:
            raise RuleError(f"A rule has no setting “{path[:80]}”.", setting=path[:80])
        _check(path, value, _ABOUT[path])
    nested: dict[str, Any] = {}
    for path, value in values.items():
        *above, name = path.split(".")
        at = nested
        for part in above:
            at = at.setdefault(part, {})
        at[name] = float(value) if isinstance(_ABOUT[path], Number) else value
    changed: Rule = _with(rule, nested)
    return changed


def _with(part: Any, values: Mapping[str, Any]) -> Any:
    """A part of a rule with other values, at any depth."""
    changes = {name: _with(getattr(part, name), value) if isinstance(value, dict) else value for name, value in values.items()}
    return replace(part, **changes)


def flat(rule: Rule) -> dict[str, Any]:
    """The values of a rule by their paths."""
    return {path: value for path, value, _ in settings(rule)}


def from_table(table: Mapping[str, Any]) -> Rule:
    """The rule that nested tables hold, as TOML or JSON give them; what they do not say is as it comes.

    Raises
    ------
    RuleError
        If they hold anything that a rule does not, or a value that it may not have.
    """
    return with_values(DEFAULT, dict(_paths(table)))


def _paths(table: Mapping[str, Any], path: str = "") -> Iterator[tuple[str, Any]]:
    """The values of nested tables by their paths; a table in the place of a value is told as one."""
    for name, value in table.items():
        here = f"{path}{name}"
        if isinstance(value, dict) and here in _SECTIONS:
            yield from _paths(value, f"{here}.")
        else:
            yield here, value


def to_table(rule: Rule) -> dict[str, Any]:
    """A rule as nested tables."""
    return asdict(rule)
