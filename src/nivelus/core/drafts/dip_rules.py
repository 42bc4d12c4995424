"""The rules of dips, one for each kind of mark, and the marks that they are for."""

from __future__ import annotations

from dataclasses import asdict, dataclass

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import LevelError
from nivelus.core.kinds import BREATH, FREE, KINDS
from nivelus.core.measure.filters import FloatArray
from nivelus.core.rule import DEFAULT, DipSettings, limits

LEAST_DIP = -0.5
"""A dip that is not as deep as this is none."""
LISP = 4.0
"""dB under what is usual from which an ess is likely to lisp."""
MOST_CLOSING, MOST_OPENING = (limits(f"details.gap.{name}")[1] for name in ("closes", "opens"))
"""Shares of a gap over which it closes, and opens, at most."""
ASKED_SILENCE = -100.0
"""dB of offset by which the hand asks for silence."""
REASONS = {
    "rule": "as deep as the rule says",
    "excess": "only what stands out",
    "at most": "limited by how far an ess may go down",
    "room tone": "stopped at room tone",
    "deepest": "limited by the deepest setting",
    "shallowest": "limited by the shallowest setting",
    "silence": "silenced",
    "by hand": "set by hand",
    "peak": "as deep as a short peak needs",
    "kept out": "kept out",
    "locked": "in a locked phrase, left as it is",
    "too short": "too short to close and open again",
    "nothing": "nothing to turn down",
    "one level": "down to the level of the quietest",
    "beside a breath": "as deep as the breath beside it lets it be",
    "in doubt": "in doubt: it may be a word, so it is left as it is",
}
"""Every reason a dip can give, in words for the person."""


@dataclass(frozen=True, slots=True)
class DipRule:
    """How far the marks of one kind go down: ``depth`` dB, and the range that every dip of the kind keeps to.

    Of gaps only: ``silent`` is all the way down, ``even`` is to one level and by ``depth`` at most; they close and open
    within ``closes`` and ``opens``, shares of their length.

    Raises
    ------
    LevelError
        If a value is not finite or above 0, ``deepest`` is above ``shallowest``, or a share is none.
    """

    depth: float
    shallowest: float = DEFAULT.details.gap.shallowest
    deepest: float = DEFAULT.details.gap.deepest
    silent: bool = DEFAULT.details.gap.silent
    even: bool = DEFAULT.details.gap.even
    closes: float = DEFAULT.details.gap.closes
    opens: float = DEFAULT.details.gap.opens

    def __post_init__(self) -> None:
        if not (0 <= self.closes <= MOST_CLOSING and 0 <= self.opens <= MOST_OPENING):
            raise LevelError(
                f"Gaps close within {MOST_CLOSING:.0%} of their length at most, and open within {MOST_OPENING:.0%}."
            )
        values = (self.depth, self.shallowest, self.deepest)
        if not np.isfinite(values).all() or max(values) > 0 or self.deepest > self.shallowest:
            raise LevelError("Dips go down: depths are 0 dB or less, and the deepest is not above the shallowest.")


def dip_rule(settings: DipSettings) -> DipRule:
    """How the marks of a kind go down by what is set of them."""
    return DipRule(**{name: value for name, value in asdict(settings).items() if name != "on"})


DEFAULT_RULES = {
    **{kind.name: dip_rule(getattr(DEFAULT.details, kind.name)) for kind in KINDS},
    FREE.name: DipRule(FREE.depth, FREE.shallowest, FREE.deepest),
}


@dataclass(frozen=True, slots=True)
class MarkArrays:
    """Marks to draft dips for, in order of time; one value per mark.

    ``kind`` holds codes, see ``core.kinds``. ``start`` and ``end`` are samples, ``level`` RMS dBFS, ``excess`` dB (NaN where
    there is none), ``room`` the RMS dBFS of the room around it. ``before`` and ``after`` are the samples at which the phrase
    before a mark ends and the next begins (infinite where there is none), ``breath_before`` says whether a breath lies
    right before it. By hand: ``offset`` dB, ``depth_fixed``, ``start_fixed``, ``end_fixed`` (samples), ``ramp_in_fixed``
    and ``ramp_out_fixed`` (seconds), each NaN where the rule holds, and ``notch``.
    """

    kind: npt.NDArray[np.int64]
    start: FloatArray
    end: FloatArray
    level: FloatArray
    excess: FloatArray
    room: FloatArray
    before: FloatArray
    after: FloatArray
    breath_before: npt.NDArray[np.bool_]
    offset: FloatArray
    depth_fixed: FloatArray
    start_fixed: FloatArray
    end_fixed: FloatArray
    ramp_in_fixed: FloatArray
    ramp_out_fixed: FloatArray
    notch: npt.NDArray[np.bool_]

    @property
    def breaths(self) -> FloatArray:
        """Where the breaths are, samples, (m, 2) in order."""
        return np.asarray(np.stack([self.start, self.end], axis=1)[self.kind == BREATH.code])
