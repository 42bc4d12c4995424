"""The rules that come with the program. Where nothing else is said the values are common practice, and from memory."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from nivelus.core.rule import DEFAULT, Rule, with_values


@dataclass(frozen=True, slots=True)
class Shipped:
    """A rule that comes with the program: what it is called, what it is for, and its values by their paths."""

    name: str
    words: str
    values: Mapping[str, Any]

    @property
    def rule(self) -> Rule:
        """The rule; what it does not say is as it comes."""
        return with_values(DEFAULT, self.values)


_DOWN = {"details.breath.on": True, "details.gap.on": True}
SHIPPED = {
    # EBU R 128: -23 LUFS, at most -1 dBTP
    "programme-speech": Shipped(
        "Programme speech",
        "−23 LUFS for broadcast, breaths and gaps a little down",
        {"target.level": -23.0, **_DOWN, "details.breath.depth": -6.0, "details.gap.depth": -10.0},
    ),
    "mobile": Shipped(
        "Telephone and mobile",
        "−16 LUFS for small loudspeakers, evened out inside phrases as well",
        {
            "target.level": -16.0,
            "target.tolerance": 1.0,
            "phrases.most_up": 12.0,
            **_DOWN,
            "details.gap.depth": -12.0,
            "ride.on": True,
            "ride.natural_fall": 1.0,
        },
    ),
    "audio-book": Shipped(
        "Audio book",
        "−20 dBFS RMS, peaks under −3 dBTP, room under −60 dBFS",
        {
            "target.unit": "rms",
            "target.level": -20.0,
            "phrases.ceiling": -3.0,
            "phrases.noise_limit": -60.0,
            **_DOWN,
            "details.gap.even": True,
            "details.gap.depth": -15.0,
        },
    ),
    "lead-vocal": Shipped(
        "Lead vocal",
        "−18 LUFS ahead of a compressor, words evened out, breaths and esses eased",
        {
            "target.tolerance": 2.0,
            "phrases.most_up": 12.0,
            "details.breath.on": True,
            "details.breath.depth": -6.0,
            "details.ess.on": True,
            "details.ess.depth": -4.0,
            "ride.on": True,
            "ride.strength": 60.0,
            "ride.pace": "quick",
        },
    ),
    "choir": Shipped(
        "Choir and ensemble",
        "To its own median, half of the way, nothing turned down",
        {
            "target.kind": "median",
            "target.tolerance": 2.5,
            "phrases.strength": 50.0,
            "phrases.most_up": 6.0,
            "phrases.most_down": 6.0,
            "ride.strength": 50.0,
            "ride.pace": "calm",
            "ride.natural_fall": 4.0,
        },
    ),
}
"""By their ids."""
