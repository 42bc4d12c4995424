"""What a rule asks of each draft: the page and the command line make their drafts by these alone."""

from __future__ import annotations

from dataclasses import asdict

from nivelus.core.drafts.clip_gain import ClipGainRule
from nivelus.core.drafts.dip_rules import DipRule, dip_rule
from nivelus.core.drafts.duck import DuckRule
from nivelus.core.drafts.slow import SlowRule
from nivelus.core.drafts.wants import RideRule
from nivelus.core.kinds import NAMES
from nivelus.core.rule import Rule


def gain_rule(rule: Rule) -> ClipGainRule:
    """How clip gains are drafted; target and base are those that the rule names, and not yet those that a track resolves."""
    phrases, target = rule.phrases, rule.target
    return ClipGainRule(
        target=target.level,
        tolerance=target.tolerance,
        strength=phrases.strength / 100,
        most_up=phrases.most_up,
        most_down=phrases.most_down,
        ceiling=phrases.ceiling,
        noise_limit=phrases.noise_limit,
        base=phrases.base,
    )


def ride_rule(rule: Rule) -> RideRule:
    """How a ride is drafted: what lies within the tolerance is left alone, and room tone stays under its limit."""
    values = {name: value for name, value in asdict(rule.ride).items() if name != "on"}
    values["strength"] /= 100
    return RideRule(**values, dead_band=rule.target.tolerance, noise_limit=rule.phrases.noise_limit)


def dip_rules(rule: Rule) -> dict[str, DipRule]:
    """How the marks of each kind that goes down do so."""
    kinds = {kind: getattr(rule.details, kind) for kind in NAMES}
    return {kind: dip_rule(own) for kind, own in kinds.items() if own.on}


def duck_rule(rule: Rule) -> DuckRule:
    """How a bed makes room."""
    return DuckRule(**asdict(rule.duck))


def slow_rule(rule: Rule) -> SlowRule:
    """How a slow ride goes: to the level of the target, or where that is the median to the track's own."""
    slow, target = rule.slow, rule.target
    return SlowRule(
        target=target.level if target.kind == "absolute" else None,
        strength=slow.strength / 100,
        most_up=slow.most_up,
        most_down=slow.most_down,
    )
