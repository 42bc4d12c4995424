"""The rule of a session: what its rows hold of one, and the other way round."""

from __future__ import annotations

from dataclasses import fields
from functools import lru_cache
from typing import Any

from nivelus.core.rule import DEFAULT, Rule, flat, with_values
from nivelus.services.views.session import RideSettings
from nivelus.store.tables import Session, Track

PATHS = {
    "unit": "target.unit",
    "target_kind": "target.kind",
    "target": "target.level",
    "tolerance": "target.tolerance",
    "mono_as_two": "target.mono_as_two",
    "strength": "phrases.strength",
    "most_up": "phrases.most_up",
    "most_down": "phrases.most_down",
    "base_kind": "phrases.base_kind",
    "base": "phrases.base",
    "ceiling": "phrases.ceiling",
    "noise_limit": "phrases.noise_limit",
    "settle": "phrases.settle",
    "keep_by_hand": "phrases.keep_by_hand",
    "longest": "phrases.longest",
}
"""The settings that a session holds in columns of its own, by those."""
COLUMNS = {path: column for column, path in PATHS.items()}
DETAILS, RIDE, DUCK = "details.", "ride.", "duck."


def rule_of(session: Session, *tracks: Track) -> Rule:
    """The rule of a session; with tracks also how details go down, and how a bed makes room: the last that says so."""
    values: dict[str, Any] = {path: getattr(session, column) for column, path in PATHS.items()}
    values |= {f"{RIDE}{name}": value for name, value in session.ride.items()}
    for track in tracks:
        for kind, rule in track.dip_rules.items() if track.kind == "voice" else ():
            values |= {f"{DETAILS}{kind}.{name}": value for name, value in rule.items()}
        if track.kind == "bed":
            values |= {f"{DUCK}{name}": value for name, value in track.duck.items() if name != "locked"}
    return _rule(tuple(values.items()))


@lru_cache(maxsize=64)
def _rule(values: tuple[tuple[str, Any], ...]) -> Rule:
    """The rule with some values by their paths: made once for all answers until one of them changes."""
    known = flat(DEFAULT)
    # rules of details are stored with what is of gaps alone
    return with_values(DEFAULT, {path: value for path, value in values if path in known})


def ride_settings(session: Session) -> RideSettings:
    """How rides of a session are drafted: what is set of it, and what comes by itself."""
    ride = rule_of(session).ride
    return RideSettings(**{one.name: getattr(ride, one.name) for one in fields(ride) if one.name != "on"})
