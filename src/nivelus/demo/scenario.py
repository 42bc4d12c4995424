"""What the demo sessions contain: which line is said when, and how far from level it lies.

``lift`` is dB on the line as it was synthesised; ``pause`` the seconds of room tone before it; ``distance`` how far the
speaker is from the microphone, 0 (close) ... 1 (turned away), which dulls the voice. Everything here is invented.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Line:
    """One line of a scene."""

    voice: str
    lift: float
    pause: float = 0.9
    distance: float = 0.0
    harsh: bool = False
    """Its esses stick out."""
    knock: bool = False
    """Its first consonant thumps."""


@dataclass(frozen=True, slots=True)
class Scene:
    """One recording: its name, its lines, the RMS level of its room in dBFS, and a seed for everything random."""

    name: str
    lines: tuple[Line, ...]
    room: float
    seed: int


GUIDE = Scene(
    "Narrator",
    (
        Line("n01", -4.0, 1.4, knock=True),
        Line("n02", +2.5, harsh=True),
        Line("n03", -3.0),
        Line("n04", +4.0, harsh=True),
        Line("n05", -6.0, 1.3, distance=0.2),
        Line("n06", +1.0, distance=0.2),
        Line("n07", -8.0, distance=0.4),
        Line("n08", +6.5, 1.6, knock=True),
        Line("n09", -5.0, distance=0.3),
        Line("n10", -9.5, distance=0.5),
        Line("n11", +3.0, harsh=True),
        Line("n12", -7.0, 1.4, distance=0.6),
        Line("n13", -10.5, distance=0.7),
        Line("n14", +9.0, knock=True),
        Line("n15", -12.0, distance=0.8),
        Line("n16", -2.0, 1.5),
        Line("n17", -8.5, distance=0.8),
        Line("n18", +5.0, harsh=True),
        Line("n19", -9.0, distance=0.9),
        Line("n20", -11.0, distance=1.0),
        Line("n21", +7.0, 1.3, harsh=True),
        Line("n22", -5.5, distance=0.8),
        Line("n23", -12.0, distance=1.0),
        Line("n24", +1.5, knock=True),
    ),
    room=-63.0,
    seed=11,
)

# the two voices of the feature take turns on one timeline: each track is silent but for its room while the other speaks
FEATURE_TURNS: tuple[Line, ...] = (
    Line("n05", -2.0, 1.2),
    Line("d01", -9.0, 0.8),
    Line("n07", +3.0, harsh=True),
    Line("d02", +4.5, 0.9, knock=True),
    Line("d03", -10.0, distance=0.5),
    Line("n08", -5.0),
    Line("d05", +8.0, 0.7, knock=True),
    Line("d04", -7.5, distance=0.4),
    Line("n09", +1.0),
    Line("d06", -3.5, harsh=True),
    Line("n12", -8.0, 1.0, distance=0.5),
    Line("d07", +6.0),
    Line("d08", -11.0, distance=0.8),
    Line("n13", +2.0),
    Line("d09", -6.0, 0.8),
    Line("d10", +3.5),
)


@dataclass(frozen=True, slots=True)
class Sung:
    """A take of the song: dB on its four lines, the level of its room in dBFS, seconds that it begins late, and a seed."""

    name: str
    lifts: tuple[float, float, float, float]
    room: float = -66.0
    late: float = 0.0
    seed: int = 5


SONG_TAKES: tuple[Sung, ...] = (
    # two lines of the verse, quiet; two of the refrain, loud
    Sung("Singer take 1", (-11.0, -8.0, +5.5, +7.5)),
    Sung("Singer take 2", (-3.0, -12.0, +1.0, +4.0), -63.0, 0.14, 6),
    Sung("Singer take 3", (-7.0, -1.5, +8.0, -2.0), -68.0, 0.06, 7),
)

FEATURE_BEGINS = 9 * 3600 + 12 * 60.0
"""When the recorder of the feature's narrator was started, seconds since midnight; the mill keeper's was started later."""
KEEPER_LATE = 3.2
