"""What became of a levelled file, in lines for a person and as JSON values."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from nivelus.cli.options import finite, plain
from nivelus.core.kinds import NAMES, OF_NAME
from nivelus.core.rule import Rule

if TYPE_CHECKING:
    from nivelus.core.deliver.level import Levelled
    from nivelus.core.deliver.outputs import Output

HOLDS = {
    "most up": ("the upper limit", ": raise --most-up"),
    "most down": ("the lower limit", ": raise --most-down"),
    "peaks": ("short peaks", ": --peaks turns them down"),
    "ceiling": ("the true peak ceiling", ""),
    "noise limit": ("the noise limit", ""),
}
"""What holds a phrase back, in words, and what frees it."""


def held_back(result: Levelled, rule: Rule) -> list[str]:
    """What held phrases back from the target, and what would free them, a line each."""
    measure = {"loudness": "LUFS", "rms": "dBFS", "peak": "dBTP"}[rule.target.unit]
    lines = []
    if rule.target.lower and result.target != rule.target.level:
        lines.append(f"target {result.target:g} {measure}, which ceiling and noise limit allow")
    for reason, (what, remedy) in HOLDS.items():
        if count := result.held.get(reason, 0):
            lines.append(f"{count} {'phrase' if count == 1 else 'phrases'} held back by {what}{remedy}")
    if result.freeing is not None:
        freeing = f"{result.freeing:g}"
        lines.append(f"at {freeing} {measure} every one of them would be level: --target {freeing}, or --target auto")
    return lines


def level_values(plan: Output, result: Levelled, rule: Rule, more: dict[str, Any]) -> dict[str, Any]:
    """What became of a file as JSON values, with ``more`` of what was done beside it."""
    shows_details = rule.phrases.peaks or bool(_kinds_down(rule))
    return {
        "input": str(plan.source),
        "output": str(plan.sound),
        "target": finite(result.target),
        "base": finite(result.base),
        "held": dict(result.held),
        **({"freeing": result.freeing} if result.freeing is not None else {}),
        "phrases": [plain(phrase) for phrase in result.phrases],
        **({"details": [plain(detail) for detail in result.details]} if shows_details else {}),
        **({"ride": ride_values(result.ride)} if result.ride else {}),
        **({"curve": str(plan.curve)} if plan.curve else {}),
        **more,
        "before": plain(result.before) | plain(result.evenness_before),
        "after": plain(result.after) | plain(result.evenness_after),
    }


def level_told(plan: Output, result: Levelled, rule: Rule) -> list[str]:
    """What became of a file in lines: its figures, and what holds phrases back."""
    before, after = result.evenness_before, result.evenness_after
    unit = "LU" if rule.target.unit == "loudness" else "dB"
    details = ((kind, [detail for detail in result.details if detail.kind == kind]) for kind in _kinds_down(rule))
    return [
        f"{plan.source} -> {plan.sound}: level {before.level} -> {after.level} of {after.count} phrases, "
        f"spread {before.spread:.1f} -> {after.spread:.1f} {unit}"
        + (f", base {result.base:+.1f} dB" if abs(result.base) >= 0.05 else "")
        + "".join(details_told(OF_NAME[kind].plural, own) for kind, own in details)
        + (ride_told(result.ride) if result.ride else ""),
        *(f"  {line}" for line in held_back(result, rule)),
    ]


def _kinds_down(rule: Rule) -> list[str]:
    """The kinds of details that go down."""
    return [kind for kind in NAMES if getattr(rule.details, kind).on]


def room_values(made: Any, mix: Path | None) -> dict[str, Any]:
    """What became of a bed as JSON values."""
    heard = [index for index, reason in enumerate(made.draft.reason) if reason != "no bed"]
    return {
        "points": points_of(made.draft.curve),
        "phrases": [
            {"before": finite(made.draft.before[i]), "after": finite(made.draft.after[i]), "reason": made.draft.reason[i]}
            for i in heard
        ],
        "without_bed": len(made.draft.reason) - len(heard),
        **({"mix": str(mix), "highest": finite(made.highest)} if mix else {}),
    }


def room_told(made: Any, wanted: float | None, mix: Path | None) -> str:
    draft = made.draft
    heard = [index for index, reason in enumerate(draft.reason) if reason != "no bed"]
    before, after = (min(float(side[i]) for i in heard) for side in (draft.before, draft.after))
    said = f"  bed: voice at least {before:.1f} -> {after:.1f} LU above it, by {len(draft.curve)} points"
    short = draft.reason.count("most down")
    said += f"; {short} phrases stay nearer than {wanted:g} LU" if wanted is not None and short else ""
    said += f"; it ends before {len(draft.reason) - len(heard)} phrases" if len(heard) < len(draft.reason) else ""
    if mix:
        said += f"; mix -> {mix}"
        said += ", which passes full scale: turn the bed or the target down" if made.highest > 1 else ""
    return said


def followed_values(plan: Output, made: Any) -> dict[str, Any]:
    """What became of another microphone as JSON values."""
    return {
        "input": str(plan.source),
        "output": str(plan.sound),
        "before": plain(made.before),
        "after": plain(made.after),
    }


def followed_told(plan: Output, made: Any) -> str:
    """Another microphone in a line."""
    before, after = (f"{side.integrated:.1f}" for side in (made.before, made.after))
    return f"  {plan.source} -> {plan.sound}: the same gain, {before} -> {after} LUFS"


def load_told(work: Any) -> str:
    """The load of a compressor in a line."""
    return (
        f"  compressor at equal work (-> {work.proposed:.1f} dBFS): {work.before.average:.1f} dB on the average, "
        f"spread from phrase to phrase {work.before.spread:.1f} -> {work.at_proposed.spread:.1f} dB"
    )


def load_values(work: Any, compressor: Any) -> dict[str, Any]:
    """The load of a compressor as JSON values."""

    def figures(of: Any) -> dict[str, Any]:
        over = {f"over_{mark}": finite(share) for mark, share in zip((3, 6, 10), of.beyond, strict=True)}
        return {"average": finite(of.average), "spread": finite(of.spread), "highest": finite(of.highest), **over}

    return {
        "threshold": compressor.threshold,
        "ratio": compressor.ratio,
        "before": figures(work.before),
        "after": figures(work.after),
        "proposed_threshold": work.proposed,
        "at_proposed": figures(work.at_proposed),
    }


def slow_values(draft: Any) -> dict[str, Any]:
    return {
        "target": finite(draft.target),
        "before": finite(draft.before),
        "after": finite(draft.after),
        "points": points_of(draft.curve),
    }


def points_of(curve: Any) -> list[dict[str, float]]:
    points = zip(curve.at.tolist(), curve.db.tolist(), strict=True)
    return [{"at": round(at, 3), "gain": round(gain, 2)} for at, gain in points]


def ride_values(draft: Any) -> dict[str, Any]:
    """A ride as JSON values: its points, and what it does to each phrase."""
    return {
        "points": points_of(draft.curve),
        "phrases": [plain(phrase) for phrase in draft.phrases],
    }


def ride_told(draft: Any) -> str:
    before, after = (
        sum(getattr(phrase, name) for phrase in draft.phrases) / max(len(draft.phrases), 1)
        for name in ("spread_before", "spread_after")
    )
    return f", inside phrases {before:.1f} -> {after:.1f} LU by a ride of {len(draft.curve)} points"


def details_told(name: str, details: list[Any]) -> str:
    doubtful = sum(d.reason == "in doubt" for d in details)
    said = f", {sum(d.depth < 0 for d in details)} of {len(details)} {name} down"
    return said + (f" ({doubtful} in doubt, left as {'it is' if doubtful == 1 else 'they are'})" if doubtful else "")
